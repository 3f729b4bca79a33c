package cli

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/demo"
	"ironledger.example/internal/client"
)

func (a *app) demoCmd() *cobra.Command {
	var o serveOptions
	story, fast := false, false
	c := &cobra.Command{
		Use: "demo", Short: "Run the service with the data of Gullholm Ferries",
		Long: `Run the service with the data of Gullholm Ferries, an invented company that runs
ferries between islands: 71 devices, 44 people, 10 resources. The records are
kept in a temporary folder unless --data names one, and the evidence is dated as
if it had been gathered just now.

With --story, play a short story in the terminal against a service of its own,
over its API, and exit.`,
		Example: "  ironledger demo\n  ironledger demo --story",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			o.logLevel = "error" // the demo uses its break-glass account, which warns
			log, err := a.logger(&o)
			if err != nil {
				return err
			}
			if o.data == "" {
				dir, err := os.MkdirTemp("", "ironledger-demo-")
				if err != nil {
					return err
				}
				defer os.RemoveAll(dir)
				o.data = dir
			}
			if story {
				return a.playStory(cmd.Context(), &o, log, fast)
			}
			return a.serve(cmd.Context(), &o, log, func(url, token string) error {
				if token = cmp.Or(token, os.Getenv("IRONLEDGER_ADMIN_TOKEN")); token == "" {
					line(a.out, "The records in %s are there already. Sign in at %s with the token that was printed when they were made.", o.data, a.bold(url))
					return nil
				}
				cl, err := client.New(url, token)
				if err != nil {
					return err
				}
				if err := fill(cmd.Context(), cl); err != nil {
					return fmt.Errorf("the demo data could not be loaded: %w", err)
				}
				line(a.out, `Gullholm Ferries is open.

  Console   %s
  Sign in   %s

  In another terminal:
    export IRONLEDGER_URL=%s IRONLEDGER_TOKEN=%s
    ironledger status
    ironledger device list --where 'level < sound'
    ironledger device show GF-T-2107
    ironledger ask birk.strand@gullholm.example chart-room --device GF-T-2107

  Ctrl-C ends it.`, a.bold(url), a.bold(token), url, token)
				return nil
			})
		},
	}
	f := c.Flags()
	f.StringVar(&o.data, "data", "", "the folder of the records (default: a temporary one, removed at the end)")
	f.StringVar(&o.listen, "listen", defaultListen, "the address to listen on")
	f.BoolVar(&story, "story", false, "play a short story in the terminal and exit")
	f.BoolVar(&fast, "fast", false, "play the story without pauses")
	return c
}

// fill loads the demo data through the API, unless it is there already.
func fill(ctx context.Context, cl *client.Client) error {
	status, err := cl.Status(ctx)
	if err != nil || status.Value.Rulebook.Version > 0 {
		return err
	}
	if _, err := cl.Publish(ctx, api.Draft{Files: demo.Rulebook(), Message: "The house rules of Gullholm Ferries"}); err != nil {
		return err
	}
	if _, err := cl.ImportPeople(ctx, "text/csv", strings.NewReader(demo.People())); err != nil {
		return err
	}
	got, err := cl.PostEvidence(ctx, "application/x-ndjson", strings.NewReader(demo.Devices(time.Now())))
	if err != nil {
		return err
	}
	if got.Value.Rejected > 0 {
		return fmt.Errorf("%d reports of the demo were refused", got.Value.Rejected)
	}
	lines := bufio.NewScanner(strings.NewReader(demo.Requests()))
	for lines.Scan() {
		var e access.Evaluation
		if err := json.Unmarshal(lines.Bytes(), &e); err != nil {
			return err
		}
		if _, err := cl.Evaluate(ctx, e); err != nil {
			return err
		}
	}
	return lines.Err()
}

// playStory runs a service on a free port and plays the story against it.
func (a *app) playStory(ctx context.Context, o *serveOptions, log *slog.Logger, fast bool) error {
	o.listen = "127.0.0.1:0"
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	played := errors.New("played")
	err := a.serve(ctx, o, log, func(url, token string) error {
		cl, err := client.New(url, cmp.Or(token, os.Getenv("IRONLEDGER_ADMIN_TOKEN")))
		if err != nil {
			return err
		}
		if err := fill(ctx, cl); err != nil {
			return err
		}
		t := &teller{app: a, client: cl, ctx: ctx, fast: fast}
		if err := t.tell(); err != nil {
			return err
		}
		return played
	})
	if errors.Is(err, played) {
		return nil
	}
	return err
}
