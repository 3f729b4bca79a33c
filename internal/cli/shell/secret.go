package shell

import (
	"bytes"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"
)

// SecretFlags are those by which a secret comes: never on the command line, where a history keeps it.
type SecretFlags struct{ from, file string }

// Add gives a command the flags.
func (s *SecretFlags) Add(c *cobra.Command) {
	c.Flags().StringVar(&s.from, "secret-from", "", "the variable that holds the secret")
	c.Flags().StringVar(&s.file, "secret-file", "", "the file that holds the secret, as the key of a certificate")
	c.MarkFlagsMutuallyExclusive("secret-from", "secret-file")
}

// Read returns the secret, "" for none.
func (s *SecretFlags) Read() (string, error) {
	switch {
	case s.from != "":
		if os.Getenv(s.from) == "" {
			return "", Usagef("the variable %s is empty", s.from)
		}
		return os.Getenv(s.from), nil
	case s.file != "":
		raw, err := os.ReadFile(s.file)
		if err == nil && len(bytes.TrimSpace(raw)) == 0 {
			err = fmt.Errorf("%s is empty", s.file)
		}
		return strings.TrimSpace(string(raw)), err
	}
	return "", nil
}
