// Package cli is the command line: Cobra commands over the client, the service
// and the offline core.
package cli

import (
	"bytes"
	"cmp"
	"context"
	"encoding/pem"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"runtime/debug"
	"slices"
	"strings"
	"syscall"
	"time"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"github.com/spf13/cobra"

	"ironledger.example/core/rulebook"
	"ironledger.example/internal/client"
)

// The exit codes.
const (
	exitDone   = 0
	exitFailed = 1
	exitUsage  = 2
	exitNo     = 3 // the answer is no
)

// errNo makes the command end with "the answer is no" and says nothing more.
var errNo = errors.New("the answer is no")

// errSaid makes the command fail after it has said why itself.
var errSaid = errors.New("failed")

// usageError is a command line that cannot be understood.
type usageError struct{ error }

func (e usageError) Unwrap() error { return e.error }

// app is what the commands share.
type app struct {
	in       io.Reader
	out, err io.Writer
	url      string
	token    string
	format   string
	lang     string
	settings string // path of the settings file
}

// Main runs the command line and returns the exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &app{in: in, out: out, err: errOut}
	root := a.root()
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	cmd, err := root.ExecuteContextC(ctx)
	var usage usageError
	switch {
	case err == nil:
		return exitDone
	case errors.Is(err, errNo):
		return exitNo
	case errors.Is(err, errSaid):
		return exitFailed
	case errors.As(err, &usage) || strings.HasPrefix(err.Error(), "unknown command") ||
		strings.HasPrefix(err.Error(), "required flag") ||
		strings.HasPrefix(err.Error(), "at least one of the flags") ||
		strings.HasPrefix(err.Error(), "if any flags in the group"):
		fmt.Fprintf(errOut, "ironledger: %s\nSee %s --help.\n", err, cmd.CommandPath())
		return exitUsage
	}
	a.explain(err)
	var p *client.Problem
	if errors.As(err, &p) && p.Status == http.StatusBadRequest && p.Pointer != "" && p.Pointer[0] != '/' {
		return exitUsage // a flag of the command line became a parameter
	}
	return exitFailed
}

// explain prints an error with all its problems.
func (a *app) explain(err error) {
	fmt.Fprintf(a.err, "ironledger: %s\n", err)
	var p *client.Problem
	if errors.As(err, &p) {
		for _, x := range p.Problems {
			fmt.Fprintln(a.err, rulebook.Problems{x}.Error())
		}
	}
}

func (a *app) root() *cobra.Command {
	root := &cobra.Command{
		Use:   "ironledger",
		Short: "How far may this device be trusted, and so who may reach what from it",
		Long: `Iron Ledger turns what devices show (evidence) into trust levels (standings), and
those into access decisions, each with its reasons.

  serve and demo run the service, backup and restore its records; appraise, decide, collect and rulebook
  check|review|fmt|test|diff|schema work on files without one; everything else asks a running service.

The service is found by --url and --token, else IRONLEDGER_URL and
IRONLEDGER_TOKEN, else the settings file that "ironledger settings save" writes.

Exit codes: 0 done, 1 failed, 2 usage, 3 the answer is no.`,
		SilenceErrors: true, SilenceUsage: true, Version: Version(),
	}
	root.SetVersionTemplate("ironledger {{.Version}}\n")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return usageError{err} })
	p := root.PersistentFlags()
	p.StringVar(&a.url, "url", "",
		"the service (default: IRONLEDGER_URL, the settings file, http://127.0.0.1:8600)")
	p.StringVar(&a.token, "token", "", "the bearer token (default: IRONLEDGER_TOKEN, the settings file)")
	p.StringVarP(&a.format, "output", "o", "table", "how to print: table, json, ndjson, yaml or csv")
	p.StringVar(&a.lang, "lang", "",
		"the language of remedies and messages, as sv (default: by LC_ALL, LC_MESSAGES, LANG)")
	must(root.RegisterFlagCompletionFunc("output",
		cobra.FixedCompletions(formats, cobra.ShellCompDirectiveNoFileComp)))
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if !slices.Contains(formats, a.format) {
			return usageError{fmt.Errorf("--output is table, json, ndjson, yaml or csv, not %q", a.format)}
		}
		return nil
	}
	if dir, err := os.UserConfigDir(); err == nil {
		a.settings = filepath.Join(dir, "ironledger", "settings.yaml")
	}
	root.AddGroup(&cobra.Group{ID: "run", Title: "The service:"},
		&cobra.Group{ID: "ask", Title: "With a service:"}, &cobra.Group{ID: "files", Title: "On files:"})
	add := func(group string, cmds ...*cobra.Command) {
		for _, c := range cmds {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add("run", a.serveCmd(), a.demoCmd(), a.backupCmd(), a.restoreCmd())
	add("ask", a.overviewCmd(), a.deviceCmd(), a.waiverCmd(), a.vouchCmd(), a.certificateCmd(), a.sourceCmd(),
		a.unmatchedCmd(), a.rosterCmd(), a.rulebookCmd(), a.personCmd(), a.askCmd(), a.gateCmd(),
		a.sessionCmd(), a.decisionCmd(), a.ledgerCmd(), a.tokenCmd(), a.statusCmd(), a.settingsCmd())
	add("files", a.appraiseCmd(), a.decideCmd(), a.collectCmd())
	usage(root)
	return root
}

// usage makes wrong arguments of every command usage errors, and gives a noun
// without a verb its help.
func usage(c *cobra.Command) {
	if check := c.Args; check != nil {
		c.Args = func(cmd *cobra.Command, args []string) error {
			if err := check(cmd, args); err != nil {
				return usageError{err}
			}
			return nil
		}
	}
	if c.HasSubCommands() && c.Run == nil && c.RunE == nil && c.HasParent() {
		c.Args = nil
		c.RunE = func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return usageError{errors.New(noVerb(cmd, args[0]))}
			}
			return cmd.Help()
		}
	}
	for _, sub := range c.Commands() {
		usage(sub)
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

func must(err error) {
	if err != nil {
		panic(err)
	}
}

// Version is the version of the binary.
func Version() string {
	if info, ok := debug.ReadBuildInfo(); ok && info.Main.Version != "" && info.Main.Version != "(devel)" {
		return info.Main.Version
	}
	return "0.1.0"
}

// settings is the client's own settings file.
type settings struct {
	URL   string `yaml:"url"`
	Token string `yaml:"token"`
}

func (a *app) client() (*client.Client, error) {
	var kept settings
	if raw, err := os.ReadFile(a.settings); err == nil {
		if err := yaml.UnmarshalWithOptions(raw, &kept, yaml.Strict()); err != nil {
			return nil, fmt.Errorf("%s: %w", a.settings, err)
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	token := cmp.Or(a.token, os.Getenv("IRONLEDGER_TOKEN"), kept.Token)
	if token == "" {
		return nil, errors.New("no token: give --token, set IRONLEDGER_TOKEN, or run ironledger settings save")
	}
	return client.New(cmp.Or(a.url, os.Getenv("IRONLEDGER_URL"), kept.URL, "http://"+defaultListen), token,
		a.language())
}

// language is what the user reads, as a language tag, "" when nothing says.
func (a *app) language() string {
	if a.lang != "" {
		return a.lang
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

func (a *app) settingsCmd() *cobra.Command {
	c := &cobra.Command{Use: "settings", Short: "Keep the URL and token of a service for later commands"}
	c.AddCommand(&cobra.Command{
		Use: "save", Short: "Keep --url and --token in the settings file, readable by you alone",
		Args:    cobra.NoArgs,
		Example: "  ironledger settings save --url http://127.0.0.1:8600 --token il_…",
		RunE: func(*cobra.Command, []string) error {
			if a.url == "" || a.token == "" {
				return usageError{errors.New("settings save needs --url and --token")}
			}
			if _, err := client.New(a.url, a.token, ""); err != nil {
				return usageError{err}
			}
			raw, err := yaml.Marshal(settings{a.url, a.token})
			if err == nil {
				err = os.MkdirAll(filepath.Dir(a.settings), 0o700)
			}
			if err == nil {
				err = os.WriteFile(a.settings, raw, 0o600)
			}
			if err != nil {
				return err
			}
			fmt.Fprintln(a.out, "Kept in", a.settings)
			return nil
		},
	}, &cobra.Command{
		Use: "path", Short: "Print where the settings file is", Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			if a.format == "table" {
				line(a.out, "%s", a.settings)
				return nil
			}
			return a.print(listing{head: []string{"PATH"}, rows: [][]string{{a.settings}},
				raw: map[string]string{"path": a.settings}})
		},
	})
	return c
}

// open opens a file, or standard input for "-".
func (a *app) open(path string) (io.ReadCloser, error) {
	if path == "-" {
		return io.NopCloser(a.in), nil
	}
	return os.Open(path)
}

func (a *app) read(path string) (string, error) {
	f, err := a.open(path)
	if err != nil {
		return "", err
	}
	defer f.Close()
	raw, err := io.ReadAll(f)
	return string(raw), err
}

// rulebookFiles reads the files of a rulebook: one file, a folder, or "-".
func (a *app) rulebookFiles(path string) ([]rulebook.File, error) {
	if info, err := os.Stat(path); path == "-" || err != nil || !info.IsDir() {
		text, err := a.read(path)
		name := filepath.Base(path)
		if err == nil && !utf8.ValidString(text) {
			err = fmt.Errorf("%s is not text in UTF-8", path)
		}
		if path == "-" {
			name = "stdin.yaml"
		}
		return []rulebook.File{{Name: name, Text: text}}, err
	}
	entries, err := os.ReadDir(path)
	if err != nil {
		return nil, err
	}
	var files []rulebook.File
	for _, e := range entries {
		if e.IsDir() || !rulebook.IsRulebookFile(e.Name()) {
			continue
		}
		raw, err := os.ReadFile(filepath.Join(path, e.Name()))
		if err != nil {
			return nil, err
		}
		files = append(files, rulebook.File{Name: e.Name(), Text: armoured(e.Name(), raw)})
	}
	return files, nil
}

// armoured gives the text of a file; a certificate or a revocation list in DER
// is written as PEM (RFC 7468).
func armoured(name string, raw []byte) string {
	if rulebook.IsYAML(name) || bytes.Contains(raw, []byte("-----BEGIN")) {
		return string(raw)
	}
	kind := "CERTIFICATE"
	if strings.EqualFold(filepath.Ext(name), ".crl") {
		kind = "X509 CRL"
	}
	return string(pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: raw}))
}

func (a *app) loadRulebook(path string) (*rulebook.Rulebook, error) {
	files, err := a.rulebookFiles(path)
	if err != nil {
		return nil, err
	}
	return rulebook.Load(files)
}

// moment parses --at, or gives the present moment for "".
func moment(at string) (time.Time, error) {
	if at == "" {
		return time.Now(), nil
	}
	t, err := time.Parse(time.RFC3339, at)
	if err != nil {
		return t, usageError{fmt.Errorf("--at %q is not an RFC 3339 time such as 2026-11-20T08:00:00Z", at)}
	}
	return t, nil
}

// head reads the first bytes of a stream and gives them back with the rest.
func head(in io.Reader) ([]byte, io.Reader) {
	first := make([]byte, 64<<10)
	n, _ := io.ReadFull(in, first) // a short or broken stream shows again in the rest
	first = first[:n]
	return first, io.MultiReader(bytes.NewReader(first), in)
}
