// Package cli is the command line: Cobra commands over the client, the service
// and the offline core.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"

	"github.com/spf13/cobra"

	"ironledger.example/internal/cli/agent"
	"ironledger.example/internal/cli/alerts"
	"ironledger.example/internal/cli/books"
	"ironledger.example/internal/cli/decisions"
	"ironledger.example/internal/cli/devices"
	"ironledger.example/internal/cli/feeds"
	"ironledger.example/internal/cli/identity"
	"ironledger.example/internal/cli/networks"
	"ironledger.example/internal/cli/notices"
	"ironledger.example/internal/cli/records"
	"ironledger.example/internal/cli/run"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/cli/streams"
	"ironledger.example/internal/client"
)

// Main runs the command line and returns the exit code.
func Main(args []string, in io.Reader, out, errOut io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	a := &shell.App{In: in, Out: out, Err: errOut}
	root := root(a)
	root.SetArgs(args)
	root.SetIn(in)
	root.SetOut(out)
	root.SetErr(errOut)
	cmd, err := root.ExecuteContextC(ctx)
	var usage shell.UsageError
	switch {
	case err == nil:
		return shell.ExitDone
	case errors.Is(err, shell.ErrNo):
		return shell.ExitNo
	case errors.Is(err, shell.ErrSaid):
		return shell.ExitFailed
	case errors.As(err, &usage) || strings.HasPrefix(err.Error(), "unknown command") ||
		strings.HasPrefix(err.Error(), "required flag") ||
		strings.HasPrefix(err.Error(), "at least one of the flags") ||
		strings.HasPrefix(err.Error(), "if any flags in the group"):
		fmt.Fprintf(errOut, "ironledger: %s\nSee %s --help.\n", err, cmd.CommandPath())
		return shell.ExitUsage
	}
	a.Explain(err)
	var p *client.ProblemError
	if errors.As(err, &p) && p.Status == http.StatusBadRequest && p.Pointer != "" && p.Pointer[0] != '/' {
		return shell.ExitUsage // a flag of the command line became a parameter
	}
	return shell.ExitFailed
}

func root(a *shell.App) *cobra.Command {
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
		SilenceErrors: true, SilenceUsage: true, Version: shell.Version(),
	}
	root.SetVersionTemplate("ironledger {{.Version}}\n")
	root.SetFlagErrorFunc(func(_ *cobra.Command, err error) error { return shell.UsageOf(err) })
	p := root.PersistentFlags()
	p.StringVar(&a.URL, "url", "",
		"the service (default: IRONLEDGER_URL, the settings file, http://127.0.0.1:8600)")
	p.StringVar(&a.Token, "token", "", "the bearer token (default: IRONLEDGER_TOKEN, the settings file)")
	p.StringVar(&a.CA, "ca", "",
		"certificates to trust the service by, PEM (default: IRONLEDGER_CA, the settings file, those of the machine)")
	p.StringVar(&a.ClientCert, "client-cert", "",
		"a certificate to show the service or a proxy before it, PEM (default: IRONLEDGER_CLIENT_CERT, the settings file)")
	p.StringVar(&a.ClientKey, "client-key", "", "its key, PEM (default: IRONLEDGER_CLIENT_KEY, the settings file)")
	p.StringVarP(&a.Format, "output", "o", "table", "how to print: table, json, ndjson, yaml or csv")
	p.StringVar(&a.Lang, "lang", "",
		"the language of remedies and messages, as sv (default: by LC_ALL, LC_MESSAGES, LANG)")
	shell.Must(root.RegisterFlagCompletionFunc("output",
		cobra.FixedCompletions(shell.Formats, cobra.ShellCompDirectiveNoFileComp)))
	root.PersistentPreRunE = func(*cobra.Command, []string) error {
		if !slices.Contains(shell.Formats, a.Format) {
			return shell.Usagef("--output is table, json, ndjson, yaml or csv, not %q", a.Format)
		}
		return nil
	}
	if dir, err := os.UserConfigDir(); err == nil {
		a.Settings = filepath.Join(dir, "ironledger", "settings.yaml")
	}
	addCommands(root, a)
	shell.Usage(root)
	return root
}

// addCommands are all commands, in the groups that the help shows.
func addCommands(root *cobra.Command, a *shell.App) {
	root.AddGroup(&cobra.Group{ID: "run", Title: "The service:"},
		&cobra.Group{ID: "device", Title: "On a device:"}, &cobra.Group{ID: "ask", Title: "With a service:"},
		&cobra.Group{ID: "files", Title: "On files:"})
	add := func(group string, cmds ...*cobra.Command) {
		for _, c := range cmds {
			c.GroupID = group
			root.AddCommand(c)
		}
	}
	add("run", run.ServeCmd(a), run.DemoCmd(a), records.BackupCmd(a), records.RestoreCmd(a), run.VersionCmd(a))
	add("device", agent.Cmd(a), run.CollectCmd(a))
	device, certificate := devices.DeviceCmd(a), devices.CertificateCmd(a)
	device.AddCommand(identity.InviteCmd(a), identity.DeviceStatementCmd(a))
	certificate.AddCommand(identity.RevokeCmd(a))
	roster := devices.RosterCmd(a)
	roster.AddCommand(identity.RosterInviteCmd(a))
	add("ask", devices.OverviewCmd(a), device, devices.WaiverCmd(a), devices.VouchCmd(a),
		certificate, identity.AuthorityCmd(a), devices.SourceCmd(a),
		devices.UnmatchedCmd(a), roster, books.RulebookCmd(a), books.RuleCmd(a), devices.PersonCmd(a),
		decisions.AskCmd(a), decisions.GateCmd(a),
		decisions.SessionCmd(a), decisions.DecisionCmd(a), streams.StreamCmd(a), feeds.FeedCmd(a),
		networks.NetworkCmd(a),
		notices.NoticeCmd(a), alerts.AlertCmd(a), records.LedgerCmd(a), records.ReportCmd(a), devices.TokenCmd(a),
		devices.StatusCmd(a), a.SettingsCmd())
	add("files", books.AppraiseCmd(a), books.DecideCmd(a), identity.StatementCmd(a))
}
