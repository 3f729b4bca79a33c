// Package agent has the commands that run on a device: it gets a certificate, reports, and tells its person how it
// stands.
package agent

import (
	"cmp"
	"context"
	_ "embed"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"text/template"
	"time"

	"github.com/spf13/cobra"

	"ironledger.example/console"
	"ironledger.example/internal/agent"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/person"
)

// options are those of all commands of the agent.
type options struct {
	dir, checks, checksUser, root, certs string
	checkFor                             time.Duration
}

// The places of an agent that was installed.
const (
	defaultDir    = "/var/lib/ironledger-agent"
	defaultChecks = "/etc/ironledger/checks"
	defaultUser   = "nobody"
)

// Cmd is the command agent.
func Cmd(a *shell.App) *cobra.Command {
	o := &options{}
	c := &cobra.Command{Use: "agent",
		Short: "Let this device prove who it is, report, and tell its person how it stands",
		Long: `The agent runs on a device. It gets a certificate with a code, keeps its key, reports over
the certificate what the machine and the site's own checks show, at once when something
changes, and renews the certificate by itself.

A site check is a program in a folder that only root can change, which prints a JSON
object of attributes. It runs without rights, for seconds at most. A line
"# watch: /etc/some/file" in it has it run at once when that file changes.`}
	f := c.PersistentFlags()
	f.StringVar(&o.dir, "dir", defaultDir, "the agent's folder, where its key is")
	f.StringVar(&o.checks, "checks", defaultChecks, "the folder of the site's own checks")
	f.StringVar(&o.checksUser, "checks-user", defaultUser, "who these run as, when the agent runs as root")
	f.DurationVar(&o.checkFor, "check-for", agent.DefaultCheckFor, "how long each of these may run")
	f.StringVar(&o.root, "root", "/", "the tree of files that the machine is read by")
	f.StringVar(&o.certs, "certs", "", "a folder of further certificates to report (PEM or DER)")
	c.AddCommand(enrolCmd(a, o), runCmd(a, o), renewCmd(a, o), statusCmd(a, o), checkCmd(a, o), pageCmd(a, o),
		statementCmd(a, o), unitCmd(a, o))
	return c
}

func (o *options) reporter(a *shell.App, log *slog.Logger) (*agent.Reporter, error) {
	if runtime.GOOS != "linux" && o.root == "/" {
		return nil, errors.New("the agent reads Linux machines alone; give --root for the tree of one")
	}
	folder, err := agent.Open(o.dir)
	if err != nil {
		return nil, err
	}
	return &agent.Reporter{Folder: folder, Machine: &agent.Linux{Root: o.root, Certificates: o.certs},
		Checks:   agent.Checks{Dir: o.checks, User: o.checksUser, For: o.checkFor},
		Language: a.Language(), Log: log}, nil
}

func quiet() *slog.Logger { return slog.New(slog.DiscardHandler) }

func enrolCmd(a *shell.App, o *options) *cobra.Command {
	e := agent.Enrolment{}
	ca, set := "", []string{}
	c := &cobra.Command{
		Use: "enrol --service URL --device ID", Short: "Get this device's certificate with a code",
		Long: `Get this device's certificate with a code that "ironledger device invite" made. The code is
read from standard input with --code -, or from IRONLEDGER_CODE, so that it stands in no
list of processes. The service is trusted by --ca, by the --fingerprint of its own
authority, or as the machine trusts others. A run that was broken off is run again.`,
		Example: `  ironledger agent enrol --service https://devices.gullholm.example:8443 --device GF-L-1042 --code - --ca devices.pem
  ironledger agent enrol --service https://127.0.0.1:8443 --device GF-L-1042 --code N7KH4-5T7AP-13Y0D-WYXF0 \
    --fingerprint 5f1c… --owner maren.holt@gullholm.example --set 'form="laptop"'`,
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			if err := asked(a, &e, ca, set); err != nil {
				return err
			}
			folder, err := agent.Open(o.dir)
			if err != nil {
				return err
			}
			e.Waiting = func(why string, wait time.Duration) {
				shell.Line(a.Err, "%s\nAsking again in %s; this may be stopped, and run again.", why, wait)
			}
			cert, err := folder.Enrol(cmd.Context(), e)
			if err != nil {
				return err
			}
			shell.Line(a.Out, "%s has a certificate until %s.", a.Bold(e.Device),
				shell.ShortTime(cert.NotAfter.UTC().Format(time.RFC3339)))
			return firstReport(cmd.Context(), a, o)
		},
	}
	f := c.Flags()
	f.StringVar(&e.Service, "service", "", "the service's URL for devices")
	f.StringVar(&e.Device, "device", "", "the device's id")
	f.StringVar(&e.Code, "code", "", "the code; - reads it from standard input (default: IRONLEDGER_CODE)")
	f.StringVar(&e.Profile, "profile", "", "the profile of the certificate (default: the first that applies)")
	f.StringVar(&e.Key, "key", "p256", "the kind of key: p256 or p384")
	f.StringVar(&e.Owner, "owner", "", "the person whose device this is")
	f.StringVar(&ca, "ca", "", "certificates to trust the service by, PEM")
	f.StringVar(&e.Fingerprint, "fingerprint", "",
		"the SHA-256 of the certificate of the service's authority, to trust it by")
	f.BoolVar(&e.Again, "again", false, "though this device has a certificate")
	f.StringArrayVar(&set, "set", nil, "an attribute that nothing here tells, as NAME=JSON; may be repeated")
	shell.Must(c.MarkFlagRequired("service"))
	shell.Must(c.MarkFlagRequired("device"))
	shell.Must(c.RegisterFlagCompletionFunc("key", cobra.FixedCompletions([]string{"p256", "p384"},
		cobra.ShellCompDirectiveNoFileComp)))
	return c
}

// asked makes of the options what e is to ask for: the code, the certificates that the
// service is trusted by, the attributes that are said.
func asked(a *shell.App, e *agent.Enrolment, ca string, set []string) (err error) {
	if e.Key != "p256" && e.Key != "p384" {
		return shell.Usagef("--key is p256 or p384, not %q", e.Key)
	}
	if e.Code, err = code(a, e.Code); err != nil {
		return err
	}
	if e.Set, err = shell.Named(set); err != nil {
		return err
	}
	if !strings.HasPrefix(e.Service, "https://") {
		return shell.Usagef("--service is a URL with https, not %q", e.Service)
	}
	e.Service = strings.TrimRight(e.Service, "/")
	if ca != "" && e.Fingerprint != "" {
		return shell.Usagef("the service is trusted by --ca or by --fingerprint, not by both")
	}
	if ca != "" {
		e.Trusted, err = os.ReadFile(ca)
	}
	return err
}

func firstReport(ctx context.Context, a *shell.App, o *options) error {
	r, err := o.reporter(a, quiet())
	if err != nil {
		return err
	}
	st, err := r.Report(ctx)
	if err != nil {
		return fmt.Errorf("it could not report yet: %w", err)
	}
	return printStatus(a, st)
}

// code is the code that was given, or is read.
func code(a *shell.App, given string) (string, error) {
	if given == "-" {
		raw, err := io.ReadAll(io.LimitReader(a.In, 200))
		if err != nil {
			return "", err
		}
		given = strings.TrimSpace(string(raw))
	}
	if given = cmp.Or(given, os.Getenv("IRONLEDGER_CODE")); given == "" {
		return "", shell.Usagef("give the code by --code, --code - or IRONLEDGER_CODE")
	}
	return given, nil
}

func runCmd(a *shell.App, o *options) *cobra.Command {
	every, page, logJSON := agent.DefaultLookEvery, "", false
	c := &cobra.Command{
		Use: "run", Short: "Report and renew for as long as this runs",
		Long: `Report at once when something changes that the agent reads, else at the interval that the
service names; keep what cannot be sent, and send it later with the times at which it was
seen; renew the certificate. "ironledger agent unit" prints a unit for systemd.`,
		Example: "  ironledger agent run\n  ironledger agent run --page 127.0.0.1:8613",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			var h slog.Handler = slog.NewTextHandler(a.Err, nil)
			if logJSON {
				h = slog.NewJSONHandler(a.Err, nil)
			}
			r, err := o.reporter(a, slog.New(h))
			if err != nil {
				return err
			}
			runner := agent.NewRunner(r)
			runner.LookEvery = max(every, 100*time.Millisecond)
			level := ""
			runner.Told = func(s *agent.Status, err error) {
				if err == nil && s.Standing != nil && s.Standing.Level != level {
					level = s.Standing.Level
					r.Log.Info("the device stands", "device", s.Device, "level", level)
				}
			}
			if page != "" {
				p := &agent.Page{Folder: r.Folder, Fonts: fonts(),
					Again: func(context.Context) error { runner.Again(); return nil }}
				done, err := serve(cmd.Context(), page, p.Handler(),
					func(url string) { r.Log.Info("the device's page", "url", url) })
				if err != nil {
					return err
				}
				defer done()
			}
			return runner.Run(cmd.Context())
		},
	}
	c.Flags().DurationVar(&every, "look-every", every, "how often to look for changes that nothing tells of")
	c.Flags().StringVar(&page, "page", "", "serve the device's page at this loopback address too, as 127.0.0.1:8613")
	c.Flags().BoolVar(&logJSON, "log-json", false, "log as JSON")
	return c
}

func renewCmd(a *shell.App, o *options) *cobra.Command {
	return &cobra.Command{
		Use: "renew", Short: "Get this device's next certificate now",
		Long:    `Get this device's next certificate now. "ironledger agent run" does that by itself when it is due.`,
		Example: "  ironledger agent renew",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			cert, err := agent.At(o.dir).Renew(cmd.Context())
			if err != nil {
				return err
			}
			shell.Line(a.Out, "%s has a certificate until %s.", a.Bold(cert.Subject.CommonName),
				shell.ShortTime(cert.NotAfter.UTC().Format(time.RFC3339)))
			return nil
		},
	}
}

func checkCmd(a *shell.App, o *options) *cobra.Command {
	return &cobra.Command{
		Use: "check", Short: "Look at this device and report now",
		Long: "Look at this device and report now, and tell how it stands. Exit code 3 when there is " +
			"something to mend.",
		Example: "  ironledger agent check\n  ironledger agent check -o json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			r, err := o.reporter(a, quiet())
			if err != nil {
				return err
			}
			st, err := r.Report(cmd.Context())
			if st == nil {
				return err
			}
			if printed := printStatus(a, st); printed != nil && !errors.Is(printed, shell.ErrNo) {
				return printed
			}
			if err != nil {
				return fmt.Errorf("the report waits to be sent: %w", err)
			}
			return mended(st)
		},
	}
}

// mended is [shell.ErrNo] when there is something to do.
func mended(s *agent.Status) error {
	if s.Standing == nil {
		return nil
	}
	for _, c := range s.Standing.Checks {
		if c.Mend {
			return shell.ErrNo
		}
	}
	return nil
}

func statusCmd(a *shell.App, o *options) *cobra.Command {
	check := false
	c := &cobra.Command{
		Use: "status", Short: "Tell how this device stands, as the agent knows",
		Example: "  ironledger agent status\n  ironledger agent status --check || echo 'something is to be mended'",
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			st, err := agent.At(o.dir).Status()
			if err != nil {
				return err
			}
			if err := printStatus(a, st); err != nil {
				return err
			}
			if check {
				return mended(st)
			}
			return nil
		},
	}
	c.Flags().BoolVar(&check, "check", false, "exit with 3 when there is something to mend")
	return c
}

func pageCmd(a *shell.App, o *options) *cobra.Command {
	listen := "127.0.0.1:8613"
	c := &cobra.Command{
		Use: "page", Short: "Serve a page on this device that tells how it stands",
		Long: `Serve a page on this machine's loopback address that tells how the device stands: each
thing that is asked of it, what to do, and a way to check again.`,
		Example: "  ironledger agent page\n  ironledger agent page --listen 127.0.0.1:0",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			p := &agent.Page{Folder: agent.At(o.dir), Fonts: fonts()}
			if r, err := o.reporter(a, quiet()); err == nil && r.Folder.Mine() {
				p.Again = func(ctx context.Context) error { _, err := r.Report(ctx); return err }
			}
			done, err := serve(cmd.Context(), listen, p.Handler(), func(url string) {
				shell.Line(a.Err,
					"This device's page: %s", url)
			})
			if err != nil {
				return err
			}
			<-cmd.Context().Done()
			return done()
		},
	}
	c.Flags().StringVar(&listen, "listen", listen, "the loopback address of the page")
	return c
}

// serve serves on a loopback address alone.
func serve(ctx context.Context, listen string, h http.Handler, told func(url string)) (done func() error, err error) {
	host, _, err := net.SplitHostPort(listen)
	if err != nil {
		return nil, shell.Usagef("%q is no address as 127.0.0.1:8613", listen)
	}
	if ip := net.ParseIP(host); ip == nil || !ip.IsLoopback() {
		return nil, shell.Usagef("the page is for this machine alone: give a loopback address as "+
			"127.0.0.1:8613, not %s", listen)
	}
	l, err := (&net.ListenConfig{}).Listen(ctx, "tcp", listen)
	if err != nil {
		return nil, err
	}
	s := &http.Server{Handler: h, ReadHeaderTimeout: 5 * time.Second, ReadTimeout: 10 * time.Second,
		WriteTimeout: time.Minute, MaxHeaderBytes: 16 << 10}
	failed := make(chan error, 1)
	go func() { failed <- s.Serve(l) }()
	told("http://" + l.Addr().String() + agent.PagePath)
	return func() error {
		err := s.Close()
		if served := <-failed; !errors.Is(served, http.ErrServerClosed) {
			err = errors.Join(err, served)
		}
		return err
	}, nil
}

// fonts are those of the console, under the names that the page asks for.
func fonts() fs.FS { return fontFiles{console.Files()} }

type fontFiles struct{ fs.FS }

func (f fontFiles) Open(name string) (fs.File, error) {
	pattern := map[string]string{"serif.woff2": "assets/literata-latin-wght-normal-*.woff2",
		"sans.woff2": "assets/source-sans-3-latin-wght-normal-*.woff2"}[name]
	found, err := fs.Glob(f.FS, pattern)
	if err != nil || len(found) == 0 {
		return nil, &fs.PathError{Op: "open", Path: name, Err: fs.ErrNotExist}
	}
	return f.FS.Open(found[0])
}

func statementCmd(a *shell.App, o *options) *cobra.Command {
	audience, nonce := "", ""
	c := &cobra.Command{
		Use: "statement --audience NAME", Short: "Print how this device stands, signed, for a relying party to check",
		Long: `Print how this device stands, as a token that a relying party checks without asking the
service. When the service cannot be reached the one that was kept is printed, until it ends.`,
		Example: "  ironledger agent statement --audience harbour-gateway",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			token, kept, err := agent.At(o.dir).Statement(cmd.Context(), audience, nonce, time.Now())
			if err != nil {
				return err
			}
			if kept {
				shell.Line(a.Err, "The service cannot be reached; this is the statement that was kept.")
			}
			shell.Line(a.Out, "%s", token)
			return nil
		},
	}
	c.Flags().StringVar(&audience, "audience", "", "the name by which the relying party knows itself")
	c.Flags().StringVar(&nonce, "nonce", "", "what the relying party gave, 8 to 88 characters")
	shell.Must(c.MarkFlagRequired("audience"))
	return c
}

//go:embed agent.service
var unit string

func unitCmd(a *shell.App, o *options) *cobra.Command {
	return &cobra.Command{
		Use: "unit", Short: "Print a unit that has systemd run the agent",
		Example: "  ironledger agent unit | sudo tee /etc/systemd/system/ironledger-agent.service\n  sudo " +
			"systemctl enable --now ironledger-agent",
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			self, err := os.Executable()
			if err != nil {
				return err
			}
			dir, errD := filepath.Abs(o.dir)
			checks, errC := filepath.Abs(o.checks)
			if err := errors.Join(errD, errC); err != nil {
				return err
			}
			t, err := template.New("").Parse(unit)
			if err != nil {
				return err
			}
			return t.Execute(a.Out, map[string]string{"Binary": self, "Dir": dir, "Checks": checks,
				"User": o.checksUser})
		},
	}
}

// printStatus tells how a device stands.
func printStatus(a *shell.App, s *agent.Status) error {
	if a.Format != "table" {
		l := shell.Listing{Head: []string{"RULE", "VERDICT", "TITLE", "UNTIL"}, Raw: s}
		if s.Standing != nil {
			for _, c := range s.Standing.Checks {
				l.Rows = append(l.Rows, []string{c.Rule, c.Verdict, c.Title, c.Until})
			}
		}
		return a.Print(l)
	}
	o := s.Standing
	if o == nil {
		shell.Line(a.Out, "%s, of %s", a.Bold(s.Device), s.Service)
	} else {
		shell.Line(a.Out, "%s  %s since %s", a.Bold(strings.TrimSpace(o.Device+" "+o.Name)),
			a.Mark(a.Bold(o.Level), o.Rank, o.Top), shell.ShortTime(o.Since))
	}
	trouble(a, s)
	if o == nil {
		return nil
	}
	shell.Line(a.Out, "")
	for _, c := range o.Checks {
		line := fmt.Sprintf("  %s %-7s %s", person.Marks[c.Verdict], c.Verdict, c.Title)
		if c.Until != "" {
			line += a.Dim("  until " + shell.ShortTime(c.Until))
		}
		if c.Mend {
			line = a.Rust(line)
		}
		shell.Line(a.Out, "%s", line)
		if c.Mend && c.Steps != "" {
			shell.Line(a.Out, "            %s", shell.PlainLinks(c.Steps))
		}
	}
	for _, r := range o.Refused {
		shell.Line(a.Out, "  %s %s: %s", a.Rust("refused"), r.Attribute, r.Message)
	}
	shell.Line(a.Out, "\n%s", a.Dim(ends(s)))
	return nil
}

// trouble tells what is wrong with the agent itself.
func trouble(a *shell.App, s *agent.Status) {
	if s.Trouble != "" {
		text := s.Trouble
		if s.Since != nil {
			text += fmt.Sprintf(", since %s; %d reports wait",
				shell.ShortTime(s.Since.UTC().Format(time.RFC3339)), s.Queued)
		}
		shell.Line(a.Out, "%s %s", a.Rust("Not reported:"), text)
	}
	if s.NotNew != "" {
		shell.Line(a.Out, "%s %s", a.Rust("Not renewed:"), s.NotNew)
	}
	if s.ChecksNo != "" {
		shell.Line(a.Out, "%s %s", a.Rust("Site checks:"), s.ChecksNo)
	}
	for _, c := range s.Checks {
		if c.Failed != "" {
			shell.Line(a.Out, "%s %s: %s", a.Rust("Site check"), c.Name, c.Failed)
		}
	}
}

// ends tells what goes on by itself.
func ends(s *agent.Status) string {
	text := "Reported " + shell.Ago(s.Standing.At) + ", every " + s.Standing.ReportEvery + " at the latest."
	if s.Until != nil && s.RenewAt != nil {
		text += fmt.Sprintf(" The certificate lasts until %s and is renewed from %s.",
			shell.ShortTime(s.Until.UTC().Format(time.RFC3339)),
			shell.ShortTime(s.RenewAt.UTC().Format(time.RFC3339)))
	}
	return text
}
