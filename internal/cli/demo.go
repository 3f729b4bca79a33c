package cli

import (
	"bufio"
	"cmp"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"strings"
	"sync/atomic"
	"time"

	"github.com/spf13/cobra"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/demo"
	"ironledger.example/internal/client"
	"ironledger.example/internal/service"
)

func (a *app) demoCmd() *cobra.Command {
	var o serveOptions
	story, fast, proxy, front := false, false, false, ""
	c := &cobra.Command{
		Use: "demo", Short: "Run the service with the data of Gullholm Ferries",
		Long: `Run the service with the data of Gullholm Ferries, an invented company that runs
ferries between islands: 71 devices, 44 people, 10 resources. The records are
kept in a temporary folder unless --data names one, and the evidence is dated as
if it had been gathered just now.

With --with-proxy, a real nginx stands in front of small stand-ins for the
applications and asks the service about every request. The certificates of some
devices are written out, to come with.

With --story, play a short story in the terminal against a service of its own,
over its API, and exit.`,
		Example: "  ironledger demo\n  ironledger demo --with-proxy\n  ironledger demo --story",
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
			clock := &pastClock{}
			if _, err := os.Stat(service.DatabasePath(o.data)); errors.Is(err, fs.ErrNotExist) {
				clock.set(time.Now().Add(-8 * 24 * time.Hour)) // the ledger begins before the week that is played
			}
			o.now, o.origin = clock.now, "ledger.gullholm.example"
			if story {
				return a.playStory(cmd.Context(), &o, log, clock, fast)
			}
			return a.serve(cmd.Context(), &o, log, func(url, token string) error {
				if token = cmp.Or(token, os.Getenv("IRONLEDGER_ADMIN_TOKEN")); token == "" {
					line(a.out, "The records in %s are there already. Sign in at %s with the token that was printed when they were made.", o.data, a.bold(url))
					return nil
				}
				cl, err := client.New(url, token, "")
				if err != nil {
					return err
				}
				at, err := fill(cmd.Context(), cl, clock)
				if err != nil {
					return fmt.Errorf("the demo data could not be loaded: %w", err)
				}
				clients := ""
				if proxy {
					if clients, err = a.withProxy(cmd.Context(), cl, url, front, o.data, at); err != nil {
						return fmt.Errorf("the proxy could not be started: %w", err)
					}
				}
				line(a.out, `Gullholm Ferries is open.

  Console   %s
  Sign in   %s

  In another terminal:
    export IRONLEDGER_URL=%s IRONLEDGER_TOKEN=%s
    ironledger overview
    ironledger device list --where 'level < sound'
    ironledger device show GF-T-2107
    ironledger ask birk.strand@gullholm.example chart-room --device GF-T-2107

  Ctrl-C ends it.`, a.bold(url), a.bold(token), url, token)
				if proxy {
					line(a.out, `
  The applications stand behind nginx at %s. As from a good laptop:
    cd %s
    curl -k --cert GF-L-1042.pem --key GF-L-1042.key -c jar -d person=maren.holt@gullholm.example -d mfa=true https://%s/sign-in
    curl -k --cert GF-L-1042.pem --key GF-L-1042.key -b jar -i https://%s/payroll/
  Without a certificate, or with that of GF-L-1049, which is revoked, the answer is a page that says why.`, a.bold("https://"+front), clients, front, front)
				}
				return nil
			})
		},
	}
	f := c.Flags()
	f.StringVar(&o.data, "data", "", "the folder of the records (default: a temporary one, removed at the end)")
	f.StringVar(&o.listen, "listen", defaultListen, "the address to listen on")
	f.BoolVar(&proxy, "with-proxy", false, "put nginx in front of stand-ins for the applications")
	f.StringVar(&front, "proxy-listen", "127.0.0.1:8443", "the address nginx listens on")
	f.BoolVar(&story, "story", false, "play a short story in the terminal and exit")
	f.BoolVar(&fast, "fast", false, "play the story without pauses")
	return c
}

// pastClock is a clock that can be put back, so that the week before the demo
// can be played in a moment.
type pastClock struct{ at atomic.Pointer[time.Time] }

func (c *pastClock) now() time.Time {
	if t := c.at.Load(); t != nil {
		return *t
	}
	return time.Now()
}

func (c *pastClock) set(t time.Time) { c.at.Store(&t) }

func (c *pastClock) release() { c.at.Store(nil) }

// fill plays the week before the demo and loads its data through the API,
// unless they are there already.
//
// It returns the moment that the evidence of today is from.
func fill(ctx context.Context, cl *client.Client, clock *pastClock) (time.Time, error) {
	defer clock.release()
	status, err := cl.Status(ctx)
	if err != nil || status.Value.Rulebook.Version > 0 {
		return time.Now(), err
	}
	f := &filler{ctx: ctx, clock: clock, admin: cl}
	at := time.Now()
	if err := f.past(at); err != nil {
		return at, err
	}
	return at, f.present(at)
}

// filler brings the demo data, each thing in the name of who would do it.
type filler struct {
	ctx                 context.Context
	clock               *pastClock
	admin, author, desk *client.Client
}

// as makes a token of a role and returns a client that uses it.
func (f *filler) as(name, role string) (*client.Client, error) {
	got, err := f.admin.CreateToken(f.ctx, name, role)
	if err != nil {
		return nil, err
	}
	return f.admin.As(got.Value.Secret)
}

// past plays the week before now.
func (f *filler) past(now time.Time) (err error) {
	steps := demo.Past(now)
	f.clock.set(steps[0].At)
	if f.author, err = f.as("dag.klint", "author"); err != nil {
		return err
	}
	if f.desk, err = f.as("help-desk", "helpdesk"); err != nil {
		return err
	}
	if _, err := f.author.Publish(f.ctx, api.Draft{Files: demo.Earlier(), Message: "The house rules of Gullholm Ferries"}); err != nil {
		return err
	}
	if _, err := f.admin.ImportPeople(f.ctx, "text/csv", strings.NewReader(demo.People()), api.ImportPeopleParams{}); err != nil {
		return err
	}
	if _, err := f.admin.ImportRoster(f.ctx, strings.NewReader(demo.Roster()), api.ImportRosterParams{}); err != nil {
		return err
	}
	edge, err := f.as("edge-proxy", "enforcer")
	if err != nil {
		return err
	}
	acts := demo.Acts()
	published := false
	for i, s := range steps {
		f.clock.set(s.At)
		if err := f.reports(s.Reports); err != nil {
			return err
		}
		back := now.Sub(s.At)
		if back < demo.Published && !published {
			published = true
			if _, err := f.author.Publish(f.ctx, api.Draft{Files: demo.Rulebook(), Message: "Tablets need iPadOS 17.5; patching of laptops on trial"}); err != nil {
				return err
			}
		}
		for len(acts) > 0 && back < acts[0].Back {
			if err := f.act(acts[0]); err != nil {
				return err
			}
			acts = acts[1:]
		}
		for _, text := range demo.Asked(i) {
			if err := evaluate(f.ctx, edge, text); err != nil {
				return err
			}
		}
	}
	return nil
}

// evaluate puts an AuthZEN request to the service.
func evaluate(ctx context.Context, cl *client.Client, text string) error {
	var e access.Evaluation
	if err := json.Unmarshal([]byte(text), &e); err != nil {
		return err
	}
	_, err := cl.Evaluate(ctx, e)
	return err
}

func (f *filler) act(a demo.Act) error {
	g := api.GrantDraft{Device: a.Device, Rule: a.Rule, Reason: a.Reason, For: a.For}
	if a.Rule == "" {
		_, err := f.desk.Vouch(f.ctx, g)
		return err
	}
	got, err := f.desk.Waive(f.ctx, g)
	if err == nil && a.Revoked != "" {
		_, err = f.desk.RevokeWaiver(f.ctx, got.Value.Id, a.Revoked)
	}
	return err
}

func (f *filler) reports(ndjson string) error {
	got, err := f.admin.PostEvidence(f.ctx, "application/x-ndjson", strings.NewReader(ndjson))
	if err == nil && got.Value.Rejected > 0 {
		err = fmt.Errorf("%d reports of the demo were refused", got.Value.Rejected)
	}
	return err
}

// present brings what is true today.
func (f *filler) present(at time.Time) error {
	f.clock.release()
	if err := f.reports(demo.Devices(at)); err != nil {
		return err
	}
	if _, err := f.admin.PostEvidence(f.ctx, "application/x-ndjson", strings.NewReader(demo.Stray(time.Now()))); err != nil {
		return err
	}
	for _, x := range demo.Applicants() {
		if _, err := f.admin.Enrol(f.ctx, api.Claims{Serial: x.Serial, Platform: x.Platform, Form: x.Form, Name: x.Name, Ownership: x.Ownership, Owner: x.Owner}); err != nil {
			return err
		}
	}
	for _, q := range demo.Searches() {
		if _, err := f.desk.KeepSearch(f.ctx, api.SearchDraft{Name: q.Name, Where: q.Where, Columns: q.Columns}); err != nil {
			return err
		}
	}
	lines := bufio.NewScanner(strings.NewReader(demo.Requests()))
	for lines.Scan() {
		if err := evaluate(f.ctx, f.admin, lines.Text()); err != nil {
			return err
		}
	}
	return lines.Err()
}

// playStory runs a service on a free port and plays the story against it.
func (a *app) playStory(ctx context.Context, o *serveOptions, log *slog.Logger, clock *pastClock, fast bool) error {
	o.listen = "127.0.0.1:0"
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	played := errors.New("played")
	err := a.serve(ctx, o, log, func(url, token string) error {
		cl, err := client.New(url, cmp.Or(token, os.Getenv("IRONLEDGER_ADMIN_TOKEN")), "")
		if err != nil {
			return err
		}
		if _, err := fill(ctx, cl, clock); err != nil {
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
