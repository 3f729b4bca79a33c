// Package streams has the commands about who hears of changes of standing.
package streams

import (
	"context"
	"fmt"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
)

// StreamCmd is the command stream.
func StreamCmd(a *shell.App) *cobra.Command {
	c := &cobra.Command{Use: "stream", Short: "Who hears of changes of standing: list, create, test, pause, remove",
		Aliases: []string{"streams"}}
	c.AddCommand(listCmd(a), showCmd(a), createCmd(a), testCmd(a),
		statusCmd(a, "pause", "Hold back what a receiver is told; it is told when the stream goes on", "paused"),
		statusCmd(a, "resume", "Have a stream go on that was "+
			"paused", "enabled"), removeCmd(a), lettersCmd(a), resendCmd(a),
		dropCmd(a), secretCmd(a), keyCmd(a))
	return c
}

func complete(a *shell.App) cobra.CompletionFunc {
	return func(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
		cl, err := a.Client()
		if err != nil || len(args) > 0 {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		got, err := cl.ListStreams(cmd.Context())
		if err != nil {
			return nil, cobra.ShellCompDirectiveNoFileComp
		}
		var out []string
		for _, s := range got.Value.Items {
			out = append(out, s.ID+"\t"+s.Receiver)
		}
		return out, cobra.ShellCompDirectiveNoFileComp
	}
}

func listCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "list", Short: "List streams with how far each has come", Args: cobra.NoArgs,
		Example: "  ironledger stream list\n  ironledger stream list -o json",
		RunE: shell.Lists(a, func(cl *client.Client, ctx context.Context) (*client.Reply[api.List[api.Stream]], error) {
			return cl.ListStreams(ctx)
		}, []string{"STREAM", "RECEIVER", "FORM", "DELIVERY", "STATUS", "WAITING", "BEHIND", "TOLD", "REFUSED",
			"GIVEN UP", "LAST",
			"TROUBLE"},
			func(s api.Stream) []string {
				last, trouble := s.LastAt, s.Failure
				if a.Format == "table" {
					trouble = shell.Clip(trouble, 60)
					if last != "" {
						last = shell.Ago(last)
					}
				}
				return []string{s.ID, s.Receiver, s.Form, s.Delivery, s.Status, fmt.Sprint(s.Waiting), fmt.Sprint(s.Behind),
					fmt.Sprint(s.Delivered), fmt.Sprint(s.Refused), fmt.Sprint(s.Letters), last, trouble}
			}),
	}
}

// print tells a stream in full.
func print(a *shell.App, got *client.Reply[api.Stream]) error {
	s := got.Value
	if a.Format != "table" {
		return a.Print(shell.Listing{Head: []string{"STREAM", "RECEIVER", "DELIVERY", "STATUS"}, Raw: got.Raw,
			Rows: [][]string{{s.ID, s.Receiver, s.Delivery, s.Status}}})
	}
	shell.Line(a.Out, "%s   to %s, %s", a.Bold(s.ID), a.Bold(s.Receiver), s.Status)
	if s.Description != "" {
		shell.Line(a.Out, "%s", s.Description)
	}
	if s.Reason != "" {
		shell.Line(a.Out, "Because   %s (%s)", s.Reason, s.By)
	}
	where := "fetched by the receiver"
	if s.Endpoint != "" {
		where = "sent to " + s.Endpoint
	}
	if s.Form == rulebook.CloudForm {
		where = "as CloudEvents" + shell.Only(s.Binary, " in the binary mode") + ", " + where
	}
	shell.Line(a.Out, "Events    %s, %s", strings.Join(s.Events, ", "), where)
	if s.When != "" {
		shell.Line(a.Out, "When      %s", s.When)
	}
	shell.Line(a.Out, "Named     devices by %s, people by %s", s.DeviceForm, s.PersonForm)
	switch {
	case s.Chosen:
		shell.Line(a.Out, "About     %s", subjects(s.Subjects, "nothing yet: the receiver adds subjects"))
	case len(s.Subjects) > 0:
		shell.Line(a.Out, "About     everything but %s", subjects(s.Subjects, ""))
	default:
		shell.Line(a.Out, "About     everything")
	}
	shell.Line(a.Out, "Place     entry %d of the ledger, %d behind; %d events wait%s", s.Place, s.Behind, s.Waiting,
		shell.Only(s.OldestAt != "", ", the oldest of "+shell.Ago(s.OldestAt)))
	shell.Line(a.Out, "Told      %d since the service started, %d refused%s", s.Delivered, s.Refused,
		shell.Only(s.LastAt != "", ", the last "+shell.Ago(s.LastAt)))
	if s.Letters > 0 {
		shell.Line(a.Out, "Given up  %d events; see them by: ironledger stream letters %s", s.Letters, s.ID)
	}
	if s.SecretBeforeUntil != "" {
		shell.Line(a.Out, "Secret    signs with the one before too, until %s", shell.When(s.SecretBeforeUntil))
	}
	if s.Secret != "" {
		shell.Line(a.Out, "\nThe secret that events are signed with, shown this once:\n\n    %s\n", s.Secret)
	}
	if s.Failure != "" {
		shell.Line(a.Out, "%s", a.Rust("Trouble   "+s.Failure+shell.Only(s.FailedAt != "", ", "+shell.Ago(s.FailedAt))))
	}
	return nil
}

// maxNamed bounds how many subjects are named in a table.
const maxNamed = 10

func subjects(list []string, none string) string {
	switch {
	case len(list) == 0:
		return none
	case len(list) > maxNamed:
		return fmt.Sprintf("%s and %d more", strings.Join(list[:maxNamed], ", "), len(list)-maxNamed)
	}
	return strings.Join(list, ", ")
}

func showCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "show STREAM", Short: "Show a stream: what it tells whom, how far it is, what went wrong",
		Args: cobra.ExactArgs(1), ValidArgsFunction: complete(a),
		Example: "  ironledger stream show st-06h0fkcqq400gcd1xwky",
		RunE:    shell.OfOne(a, (*client.Client).GetStream, print),
	}
}

func createCmd(a *shell.App) *cobra.Command {
	var d api.StreamDraft
	secretFrom := ""
	c := &cobra.Command{
		Use: "create RECEIVER", Short: "Create a stream to a receiver that the rulebook " +
			"names", Args: cobra.ExactArgs(1),
		Long: `Create a stream to a receiver that the signals of the rulebook in force name. With
--endpoint events are sent there (RFC 8935), else the receiver fetches them (RFC 8936).
A receiver with a token of the role receiver can create its own, by the Shared Signals
Framework.

To a receiver with form: cloudevents, a web hook, CloudEvents are sent, signed as
Standard Webhooks say; the secret to check them with is shown once.

What is sent along as the Authorization header is read from the variable that
--authorization-from names, so that it stands in no history; it is kept encrypted and
never shown again.`,
		Example: `  ironledger stream create harbour-gateway
  IDP_AUTH='Bearer …' ironledger stream create idp --endpoint https://idp.gullholm.example/events --authorization-from IDP_AUTH
  ironledger stream create idp --event session-revoked --event device-compliance-change
  ironledger stream create crew-chat --endpoint https://chat.gullholm.example/hooks/7`,
		RunE: func(cmd *cobra.Command, args []string) error {
			d.Receiver = args[0]
			if secretFrom != "" {
				if d.Authorization = os.Getenv(secretFrom); d.Authorization == "" {
					return shell.Usagef("the variable %s is empty", secretFrom)
				}
			}
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.CreateStream(cmd.Context(), d)
			if err != nil {
				return err
			}
			return print(a, got)
		},
	}
	f := c.Flags()
	f.StringVar(&d.Endpoint, "endpoint", "", "where events are sent (default: the receiver fetches them)")
	f.StringVar(&secretFrom, "authorization-from", "", "the variable that holds the Authorization header to send along")
	f.StringSliceVar(&d.Events, "event", nil, "an event to tell; several times for several (default: all that "+
		"it may have)")
	f.BoolVar(&d.Chosen, "chosen", false, "tell only of subjects that the receiver adds")
	f.BoolVar(&d.Binary, "binary", false, "to a web hook: the attributes of a CloudEvent as headers, its data "+
		"alone as the body")
	f.StringVar(&d.Description, "description", "", "what the stream is for")
	shell.Must(c.RegisterFlagCompletionFunc("event",
		cobra.FixedCompletions(rulebook.SignalNames, cobra.ShellCompDirectiveNoFileComp)))
	return c
}

func testCmd(a *shell.App) *cobra.Command {
	return &cobra.Command{
		Use: "test STREAM", Short: "Send a verification event and wait for its acknowledgement",
		Args: cobra.ExactArgs(1), ValidArgsFunction: complete(a),
		Long: `Send a verification event (Shared Signals Framework 1.0, section 8.1.4) and wait a few
seconds for its acknowledgement. Exit code 3 says that there was none.`,
		Example: "  ironledger stream test st-06h0fkcqq400gcd1xwky",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			got, err := cl.TestStream(cmd.Context(), args[0])
			if err != nil {
				return err
			}
			t := got.Value
			switch {
			case a.Format != "table":
				err = a.Print(shell.Listing{Head: []string{"EVENT", "ACKNOWLEDGED", "MILLIS", "TROUBLE"}, Raw: got.Raw,
					Rows: [][]string{{t.JTI, fmt.Sprint(t.Acknowledged), fmt.Sprint(t.Millis), t.Failure}}})
			case t.Acknowledged:
				shell.Line(a.Out, "The receiver acknowledged the event %s after %d ms.", t.JTI, t.Millis)
			default:
				shell.Line(a.Out, "%s", a.Rust("Not acknowledged: "+t.Failure))
			}
			if err == nil && !t.Acknowledged {
				err = shell.ErrNo
			}
			return err
		},
	}
}

func statusCmd(a *shell.App, verb, short, status string) *cobra.Command {
	reason := ""
	return shell.WithReason(&cobra.Command{
		Use: verb + " STREAM", Short: short, Args: cobra.ExactArgs(1), ValidArgsFunction: complete(a),
		Example: "  ironledger stream " + verb + " st-06h0fkcqq400gcd1xwky --reason 'The partner works on it, " +
			"ticket 812'",
		RunE: shell.OfOne(a, func(cl *client.Client, ctx context.Context, id string) (*client.Reply[api.Stream], error) {
			return cl.SetStreamStatus(ctx, id, api.StreamStatusDraft{Status: status, Reason: reason})
		}, print),
	}, &reason)
}

func removeCmd(a *shell.App) *cobra.Command {
	reason := ""
	return shell.WithReason(&cobra.Command{
		Use: "remove STREAM", Short: "Remove a stream; its receiver hears nothing any more", Args: cobra.ExactArgs(1),
		ValidArgsFunction: complete(a),
		Example:           "  ironledger stream remove st-06h0fkcqq400gcd1xwky --reason 'The gateway is gone'",
		RunE: func(cmd *cobra.Command, args []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			if err := cl.RemoveStream(cmd.Context(), args[0], api.Reason{Reason: reason}); err != nil {
				return err
			}
			shell.Line(a.Out, "Removed %s. Its receiver hears nothing any more.", args[0])
			return nil
		},
	}, &reason)
}

func keyCmd(a *shell.App) *cobra.Command {
	reason := ""
	return shell.WithReason(&cobra.Command{
		Use: "rotate-key", Short: "Have events signed with another key", Args: cobra.NoArgs,
		Long: `Have events signed with another key. It is in the JWK set at once and signs after ten
minutes, so that receivers who keep the set have it; the one before stays in the set for
a week.`,
		Example: "  ironledger stream rotate-key --reason 'Yearly'",
		RunE: func(cmd *cobra.Command, _ []string) error {
			cl, err := a.Client()
			if err != nil {
				return err
			}
			if err := cl.RotateSignalKey(cmd.Context(), api.Reason{Reason: reason}); err != nil {
				return err
			}
			shell.Line(a.Out, "The new key is in %s/ssf/jwks.json and signs in ten minutes.", cl.URL())
			return nil
		},
	}, &reason)
}
