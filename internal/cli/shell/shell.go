// Package shell is what every command shares: the terminal and what is printed there,
// the settings, the client, and how a command ends.
package shell

import (
	"bytes"
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ironledger.example/core/rulebook"
	"ironledger.example/internal/client"
)

// The exit codes.
const (
	ExitDone   = 0
	ExitFailed = 1
	ExitUsage  = 2
	ExitNo     = 3 // the answer is no
)

// ErrNo makes the command end with "the answer is no" and says nothing more.
var ErrNo = errors.New("the answer is no")

// ErrSaid makes the command fail after it has said why itself.
var ErrSaid = errors.New("failed")

// UsageError is a command line that cannot be understood.
type UsageError struct{ error }

func (e UsageError) Unwrap() error { return e.error }

// Usagef is a [UsageError] with a format.
func Usagef(format string, args ...any) error { return UsageError{fmt.Errorf(format, args...)} }

// UsageOf makes an error one of usage.
func UsageOf(err error) error { return UsageError{err} }

// App is what the commands share.
type App struct {
	In       io.Reader
	Out, Err io.Writer
	URL      string
	Token    string
	// CA, ClientCert and ClientKey are files by which the service is trusted, and what it is shown; PEM.
	CA, ClientCert, ClientKey string
	Format                    string
	Lang                      string
	Settings                  string // path of the settings file
}

// Explain prints an error with all its problems.
func (a *App) Explain(err error) {
	fmt.Fprintf(a.Err, "ironledger: %s\n", err)
	var p *client.ProblemError
	if errors.As(err, &p) {
		for _, x := range p.Problems {
			fmt.Fprintln(a.Err, rulebook.Problems{x}.Error())
		}
	}
}

// Usage makes wrong arguments of every command usage errors, and gives a noun
// without a verb its help.
func Usage(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(cmd *cobra.Command, args []string) error {
			if err := check(cmd, args); err != nil {
				return UsageOf(err)
			}
			return nil
		}
	}
	if c.HasSubCommands() && c.Run == nil && c.RunE == nil && c.HasParent() {
		c.Args = nil
		c.RunE = func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return Usagef("%s", noVerb(cmd, args[0]))
			}
			return cmd.Help()
		}
	}
	for _, sub := range c.Commands() {
		Usage(sub)
	}
}

// noVerb says that a noun has no such verb, and which ones it has.
func noVerb(cmd *cobra.Command, verb string) string {
	cmd.SuggestionsMinimumDistance = 2
	if near := cmd.SuggestionsFor(verb); len(near) > 0 {
		return fmt.Sprintf("%s has no verb %q; did you mean %s?", cmd.CommandPath(), verb,
			strings.Join(near, " or "))
	}
	var verbs []string
	for _, sub := range cmd.Commands() {
		if sub.IsAvailableCommand() {
			verbs = append(verbs, sub.Name())
		}
	}
	return fmt.Sprintf("%s has no verb %q; there are %s", cmd.CommandPath(), verb, strings.Join(verbs, ", "))
}

// Must is for what cannot fail but by a mistake in this program.
func Must(err error) {
	if err != nil {
		panic(err)
	}
}

// Client is the client of the service that the flags, the environment or the settings name.
func (a *App) Client() (*client.Client, error) {
	var kept settings
	if raw, err := os.ReadFile(a.Settings); err == nil {
		if err := yaml.UnmarshalWithOptions(raw, &kept, yaml.Strict()); err != nil {
			return nil, fmt.Errorf("%s: %w", a.Settings, err)
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	token := cmp.Or(a.Token, os.Getenv("IRONLEDGER_TOKEN"), kept.Token)
	if token == "" {
		return nil, errors.New("no token: give --token, set IRONLEDGER_TOKEN, or run ironledger settings save")
	}
	t := client.Trust{CA: cmp.Or(a.CA, os.Getenv("IRONLEDGER_CA"), kept.CA),
		Certificate: cmp.Or(a.ClientCert, os.Getenv("IRONLEDGER_CLIENT_CERT"), kept.ClientCert),
		Key:         cmp.Or(a.ClientKey, os.Getenv("IRONLEDGER_CLIENT_KEY"), kept.ClientKey)}
	return client.Trusting(cmp.Or(a.URL, os.Getenv("IRONLEDGER_URL"), kept.URL, "http://"+DefaultListen), token,
		a.Language(), t)
}

// Language is what the user reads, as a language tag, "" when nothing says.
func (a *App) Language() string {
	if a.Lang != "" {
		return a.Lang
	}
	for _, name := range []string{"LC_ALL", "LC_MESSAGES", "LANG"} {
		tag, _, _ := strings.Cut(os.Getenv(name), ".")
		if tag == "C" || tag == "POSIX" {
			return ""
		}
		if tag != "" {
			return strings.ReplaceAll(tag, "_", "-")
		}
	}
	return ""
}

// Open opens a file, or standard input for "-".
func (a *App) Open(path string) (io.ReadCloser, error) {
	if path == "-" {
		return io.NopCloser(a.In), nil
	}
	return os.Open(path)
}

// Read reads a file, - for standard input.
func (a *App) Read(path string) (string, error) {
	f, err := a.Open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	raw, err := io.ReadAll(f)
	return string(raw), err
}

// Moment parses --at, or gives the present moment for "".
func Moment(at string) (time.Time, error) {
	if at == "" {
		return time.Now(), nil
	}
	t, err := time.Parse(time.RFC3339, at)
	if err != nil {
		return t, Usagef("--at %q is not an RFC 3339 time such as 2026-11-20T08:00:00Z", at)
	}
	return t, nil
}

// Head reads the first bytes of a stream and gives them back with the rest.
func Head(in io.Reader) ([]byte, io.Reader) {
	first := make([]byte, 64<<10)
	n, _ := io.ReadFull(in, first) // a short or broken stream shows again in the rest
	first = first[:n]
	return first, io.MultiReader(bytes.NewReader(first), in)
}

// DefaultListen is where the service listens, and is looked for, unless somebody says so.
const DefaultListen = "127.0.0.1:8600"

// WithReason has a command ask for a reason, which is recorded.
func WithReason(c *cobra.Command, into *string) *cobra.Command {
	c.Flags().StringVar(into, "reason", "", "why; recorded")
	Must(c.MarkFlagRequired("reason"))
	return c
}

// OfOne runs a command that calls for one thing, named by its argument, and shows what came back.
func OfOne[T any](a *App, call func(*client.Client, context.Context, string) (*client.Reply[T], error),
	show func(*App, *client.Reply[T]) error) func(*cobra.Command, []string) error {
	return func(cmd *cobra.Command, args []string) error {
		cl, err := a.Client()
		if err != nil {
			return err
		}
		got, err := call(cl, cmd.Context(), args[0])
		if err != nil {
			return err
		}
		return show(a, got)
	}
}
