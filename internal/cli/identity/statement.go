package identity

import (
	"crypto/x509"
	"encoding/pem"
	"fmt"
	"io"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/statement"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/reliance"
)

// DeviceStatementCmd is the command device statement.
func DeviceStatementCmd(a *shell.App) *cobra.Command {
	d := api.StatementDraft{}
	c := &cobra.Command{Use: "statement DEVICE --audience NAME",
		Short: "State how a device stands, signed, for others to check offline",
		Args:  cobra.ExactArgs(1), ValidArgsFunction: a.CompleteDevices,
		Long: `State how a device stands, as a signed token (RFC 9711) for one relying party, which checks it
without asking: "ironledger statement verify". It ends when the standing may change by
itself, and after a quarter of an hour or what the certificate's profile says.`,
		Example: "  ironledger device statement GF-L-1042 --audience harbour-gateway > statement.jwt",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.MakeStatement(cmd.Context(), args[0], d)
			if err != nil {
				return err
			}
			if a.Format != "table" {
				x := got.Value
				return a.Print(shell.Listing{Head: []string{"DEVICE", "LEVEL", "UNTIL", "STATEMENT"},
					Rows: [][]string{{x.Device, x.Level, x.Until, x.Statement}}, Raw: got.Raw})
			}
			shell.Line(a.Out, "%s", got.Value.Statement)
			return nil
		}}
	c.Flags().StringVar(&d.Audience, "audience", "", "the name by which the relying party knows itself")
	c.Flags().StringVar(&d.Nonce, "nonce", "", "what the relying party gave, 8 to 88 characters")
	shell.Must(c.MarkFlagRequired("audience"))
	return c
}

// StatementCmd is the command statement.
func StatementCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "statement", Short: "Check a statement of how a device stands, offline"}
	c.AddCommand(verifyCmd(a))
	return c
}

func verifyCmd(a *shell.App) *cobra.Command {
	e, jwks, at, cert := statement.Expected{}, "", "", ""
	c := &cobra.Command{Use: "verify FILE|- --jwks FILE --audience NAME",
		Short: "Check a statement without asking the service",
		Args:  cobra.ExactArgs(1),
		Long: `Check a statement without asking the service: its signature by the keys that were fetched from
/ssf/jwks.json, that it is for you and has not ended, and what else you expect. Exit code 3
when it is not one to rely on.`,
		Example: `  curl -s https://posture.gullholm.example/ssf/jwks.json > keys.json
  ironledger statement verify statement.jwt --jwks keys.json --audience harbour-gateway --least sound
  ironledger statement verify - --jwks keys.json --audience harbour-gateway --certificate device.pem < statement.jwt`,
		RunE: func(_ *cobra.Command, args []string) error {
			token, err := readToken(a, args[0])
			if err != nil {
				return err
			}
			raw, err := os.ReadFile(jwks)
			if err != nil {
				return err
			}
			if e.Now = time.Now(); at != "" {
				if e.Now, err = time.Parse(time.RFC3339, at); err != nil {
					return shell.Usagef("--at is a moment as 2026-11-20T08:00:00Z, not %q", at)
				}
			}
			if cert != "" {
				if e.Certificate, err = thumbprintOf(cert); err != nil {
					return err
				}
			}
			claims, err := reliance.Verified(token, raw)
			if err == nil {
				err = claims.Check(e)
			}
			return printClaims(a, claims, err)
		}}
	f := c.Flags()
	f.StringVar(&jwks, "jwks", "", "the keys of the service (RFC 7517), as /ssf/jwks.json gives them")
	f.StringVar(&e.Audience, "audience", "", "who you are: a statement for somebody else proves nothing")
	f.StringVar(&e.Issuer, "issuer", "", "the service that it must be of")
	f.StringVar(&e.Nonce, "nonce", "", "what you gave")
	f.StringVar(&e.Device, "device", "", "the device that it must be about")
	f.StringVar(&e.Least, "least", "", "the level that the device must have at least")
	f.StringVar(&cert, "certificate", "", "the certificate that the device proved, PEM")
	f.StringVar(&at, "at", "", "another moment than now")
	f.DurationVar(&e.Leeway, "leeway", 0, "how far clocks may differ")
	shell.Must(c.MarkFlagRequired("jwks"))
	shell.Must(c.MarkFlagRequired("audience"))
	return c
}

// maxToken bounds a statement, in bytes.
const maxToken = 64 << 10

func readToken(a *shell.App, name string) (string, error) {
	in := a.In
	if name != "-" {
		f, err := os.Open(name)
		if err != nil {
			return "", err
		}
		defer f.Close()
		in = f
	}
	raw, err := io.ReadAll(io.LimitReader(in, maxToken+1))
	switch {
	case err != nil:
		return "", err
	case len(raw) > maxToken:
		return "", fmt.Errorf("%s is larger than a statement, %d bytes", name, maxToken)
	}
	return strings.TrimSpace(string(raw)), nil
}

// thumbprintOf names the first certificate of a PEM file as statements do.
func thumbprintOf(path string) (string, error) {
	raw, err := os.ReadFile(path)
	if err != nil {
		return "", err
	}
	for block, rest := pem.Decode(raw); block != nil; block, rest = pem.Decode(rest) {
		if block.Type != "CERTIFICATE" {
			continue
		}
		cert, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return "", fmt.Errorf("%s: %w", path, err)
		}
		return statement.Thumbprint(cert.Raw), nil
	}
	return "", fmt.Errorf("%s holds no certificate in PEM", path)
}

func printClaims(a *shell.App, c *statement.Claims, wrong error) error {
	if a.Format != "table" {
		out := struct {
			Valid  bool              `json:"valid"`
			Why    string            `json:"why,omitempty"`
			Claims *statement.Claims `json:"claims,omitempty"`
		}{wrong == nil, "", c}
		if wrong != nil {
			out.Why = wrong.Error()
		}
		if err := a.Print(shell.Listing{Head: []string{"VALID", "WHY"}, Rows: [][]string{{fmt.Sprint(out.Valid),
			out.Why}}, Raw: out}); err != nil {
			return err
		}
	} else {
		if wrong != nil {
			shell.Line(a.Out, "%s %s", a.Rust("Not to rely on:"), wrong)
		}
		if c != nil {
			claimsTable(a, c)
		}
	}
	if wrong != nil {
		return shell.ErrNo
	}
	return nil
}

func claimsTable(a *shell.App, c *statement.Claims) {
	s, rank := c.Standing, 0
	for i, l := range s.Ladder {
		if l == s.Level {
			rank = i
		}
	}
	stamp := func(at int64) string { return shell.ShortTime(time.Unix(at, 0).UTC().Format(time.RFC3339)) }
	shell.Line(a.Out, "%s  %s since %s", a.Bold(c.Subject), a.Mark(a.Bold(s.Level), rank, len(s.Ladder)-1),
		shell.ShortTime(s.Since))
	shell.Line(a.Out, "for %s, of %s, from %s until %s", c.Audience, c.Issuer, stamp(c.IssuedAt), stamp(c.Expires))
	if len(s.Binding) > 0 {
		shell.Line(a.Out, "held there by %s", shell.Joined(s.Binding))
	}
	if c.Confirm != nil {
		shell.Line(a.Out, "bound to the key of the certificate %s", c.Confirm.Certificate)
	} else {
		shell.Line(a.Out, "%s", a.Rust("bound to no key: whoever has it can show it"))
	}
}
