package run

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"time"

	"github.com/spf13/cobra"

	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/client"
	"ironledger.example/internal/demo"
	"ironledger.example/internal/engine"
)

// demoOptions are what the demo is started with.
type demoOptions struct {
	serveOptions
	story, fast, proxy, partners bool
	aboard                       bool   // a ship's network
	ship                         string // its page
	front                        string // where nginx listens
	mailbox                      string // the page of the mailbox that stands in for people's
	gateway                      string // of another site
	newcomer                     *demo.Newcomer
}

// DemoCmd is the command demo.
func DemoCmd(a *shell.App) *cobra.Command {
	var o demoOptions
	c := &cobra.Command{
		Use: "demo", Short: "Run the service with the data of Gullholm Ferries",
		Long: `Run the service with the data of Gullholm Ferries, an invented company that runs
ferries between islands: 71 devices, 44 people, 11 resources. The records are
kept in a temporary folder unless --data names one, and the evidence is dated as
if it had been gathered just now.

With --with-proxy, a real nginx stands in front of small stand-ins for the
applications and asks the service about every request. The certificates of some
devices are written out, to come with. Devices get certificates too: the files of a
laptop that nobody knows are written out for an agent, and a gateway at another site
lets it in by a signed statement.

With --with-partners, stand-ins for partner systems run beside it: an identity provider
that hears of devices by Shared Signals and signs people out, a chat room that is told of
falls by a web hook, and a mail server where notices arrive. Each shows on a page what it
was told.

With --with-network, an access point that stands in for one on a ship asks over RADIUS who
joins its network; a page shows who is on which VLAN, and what that reaches.

With --story, play a short story in the terminal against a service of its own,
over its API, and exit.`,
		Example: "  ironledger demo\n  ironledger demo --with-proxy\n  ironledger demo --with-partners\n  " +
			"ironledger demo --story",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error { return runDemo(cmd.Context(), a, &o) },
	}
	f := c.Flags()
	f.StringVar(&o.data, "data", "", "the folder of the records (default: a temporary one, removed at the end)")
	f.StringVar(&o.listen, "listen", shell.DefaultListen, "the address to listen on")
	f.StringVar(&o.metrics, "metrics-listen", "",
		"a loopback address where /metrics is answered without a token, as 127.0.0.1:9460 (default: none)")
	f.StringVar(&o.devices, "device-listen", "",
		"the address where devices get certificates, as 127.0.0.1:8601 (default: none)")
	f.BoolVar(&o.proxy, "with-proxy", false, "put nginx in front of stand-ins for the applications")
	f.BoolVar(&o.partners, "with-partners", false, "start stand-ins for partner systems")
	f.BoolVar(&o.aboard, "with-network", false, "start a stand-in for an access point on a ship")
	f.StringVar(&o.front, "proxy-listen", "127.0.0.1:8443", "the address nginx listens on")
	f.BoolVar(&o.story, "story", false, "play a short story in the terminal and exit")
	f.BoolVar(&o.fast, "fast", false, "play the story without pauses")
	return c
}

func runDemo(ctx context.Context, a *shell.App, o *demoOptions) error {
	o.logLevel = "error" // the demo uses its break-glass account, which warns
	log, err := logger(a, &o.serveOptions)
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
	clock := &demo.Clock{}
	if _, err := os.Stat(engine.DatabasePath(o.data)); errors.Is(err, fs.ErrNotExist) {
		clock.Set(time.Now().Add(-8 * 24 * time.Hour)) // the ledger begins before the week that is played
	}
	o.inside = []string{"127.0.0.0/8"} // where the stand-ins are
	o.noticesAfter = 5 * time.Second
	o.now, o.origin = clock.Now, "ledger.gullholm.example"
	if o.story {
		return playStory(ctx, a, &o.serveOptions, log, clock, o.fast)
	}
	if o.partners {
		box, err := demo.Mailbox(ctx, o.data)
		if err != nil {
			return fmt.Errorf("the stand-in for a mail server could not be started: %w", err)
		}
		o.smtp, o.smtpCA, o.mailbox = box.Server, box.Trust, box.Page
		o.mailFrom = "Iron Ledger <posture@gullholm.example>"
	}
	if o.aboard {
		o.network.access, o.network.accounting = "127.0.0.1:0", "127.0.0.1:0"
	}
	if o.proxy && o.devices == "" {
		o.devices = "127.0.0.1:0"
	}
	o.atDoor = func(url string) {
		shell.Line(a.Out, "Devices get certificates at %s", a.Bold(url+"/.well-known/est"))
	}
	return serve(ctx, &o.serveOptions, log, func(url, token string) error {
		if token = cmp.Or(token, os.Getenv("IRONLEDGER_ADMIN_TOKEN")); token == "" {
			shell.Line(a.Out, "The records in %s are there already. Sign in at %s with the token that was "+
				"printed when they were made.",
				o.data, a.Bold(url))
			return nil
		}
		return openDemo(ctx, a, o, clock, url, token)
	})
}

// openDemo fills a new service with the demo data, starts what stands around it, and
// tells how to look at it.
func openDemo(ctx context.Context, a *shell.App, o *demoOptions, clock *demo.Clock, url, token string) error {
	cl, err := client.New(url, token, "")
	if err != nil {
		return err
	}
	at, err := demo.Fill(ctx, cl, clock)
	if err != nil {
		return fmt.Errorf("the demo data could not be loaded: %w", err)
	}
	var pages []demo.Partner
	if o.partners {
		around, err := demo.Partners(ctx, cl, url)
		if err != nil {
			return fmt.Errorf("the partners could not be started: %w", err)
		}
		pages = append(around.Pages, demo.Partner{Title: "the mail of everybody, where notices arrive",
			URL: o.mailbox})
	}
	if o.aboard {
		ship, err := demo.Network(ctx, cl, at)
		if err == nil {
			err = ship.Come(ctx, cl)
		}
		if err != nil {
			return fmt.Errorf("the access point could not be started: %w", err)
		}
		o.ship = ship.Page
	}
	clients := ""
	if o.proxy {
		if o.newcomer, err = newcomer(ctx, a, o, url); err != nil {
			return fmt.Errorf("the newcomer's files could not be written: %w", err)
		}
		if clients, err = demo.Front(ctx, cl, url, o.front, o.data, at,
			func(err error) { shell.Line(a.Err, "%v", err) }); err != nil {
			return fmt.Errorf("the proxy could not be started: %w", err)
		}
	}
	welcome(a, o, url, token, clients, pages)
	return nil
}

// newcomer writes out a laptop that nobody knows, and starts the gateway that it may come to.
func newcomer(ctx context.Context, a *shell.App, o *demoOptions, url string) (*demo.Newcomer, error) {
	dir, err := os.MkdirTemp("", "ironledger-newcomer-")
	if err != nil {
		return nil, err
	}
	context.AfterFunc(ctx, func() {
		if err := os.RemoveAll(dir); err != nil {
			shell.Line(a.Err, "%v", err)
		}
	})
	if err := os.Chmod(dir, 0o755); err != nil { // its checks run as nobody
		return nil, err
	}
	if o.gateway, err = demo.Gate(ctx, url); err != nil {
		return nil, err
	}
	return demo.MakeNewcomer(dir)
}

// welcome tells how to look at the demo.
func welcome(a *shell.App, o *demoOptions, url, token, clients string, pages []demo.Partner) {
	shell.Line(a.Out, `Gullholm Ferries is open.

  Console   %s
  Sign in   %s

  In another terminal:
    export IRONLEDGER_URL=%s IRONLEDGER_TOKEN=%s
    ironledger overview
    ironledger device list --where 'level < sound'
    ironledger device show GF-T-2107
    ironledger ask birk.strand@gullholm.example chart-room --device GF-T-2107

  Ctrl-C ends it.`, a.Bold(url), a.Bold(token), url, token)
	if o.partners {
		shell.Line(a.Out, "\n  Stand-ins for partners:")
		for _, p := range pages {
			shell.Line(a.Out, "    %s   %s", a.Bold(p.URL), p.Title)
		}
		shell.Line(a.Out, `  Have a device fall, and heal:
    echo '{"source":"sensor","identity":{"id":"GF-L-1042"},"evidence":{"threat.score":95}}' | ironledger device import -
    echo '{"source":"sensor","identity":{"id":"GF-L-1042"},"evidence":{"threat.score":0}}' | ironledger device import -`)
	}
	if o.ship != "" {
		shell.Line(a.Out, `
  Aboard a ship, an access point shows who is on its network: %s
  Have the captain's tablet fall, and heal:
    ironledger network stays
    echo '{"source":"sensor","identity":{"id":"GF-T-2107"},"evidence":{"threat.score":95}}' | ironledger device import -
    echo '{"source":"sensor","identity":{"id":"GF-T-2107"},"evidence":{"threat.score":0}}' | ironledger device import -`,
			a.Bold("http://"+o.ship))
	}
	if o.proxy {
		shell.Line(a.Out, `
  The applications stand behind nginx at %s. As from a good laptop:
    cd %s
    curl -k --cert GF-L-1042.pem --key GF-L-1042.key -c jar -d person=maren.holt@gullholm.example -d mfa=true https://%s/sign-in
    curl -k --cert GF-L-1042.pem --key GF-L-1042.key -b jar -i https://%s/payroll/
  Without a certificate, or with that of GF-L-1049, which is revoked, the answer is a page that says why.`,
			a.Bold("https://"+o.front), clients, o.front, o.front)
		const agent = "--dir agent --root machine --checks checks"
		shell.Line(a.Out, `
  A laptop comes that nobody knows; its files are in %s. Invite it, and enrol it by the line that this
  prints, with what follows it here:
    cd %s
    ironledger device invite %s --serial %s
    … %s --owner %s --set managed=true --set 'ownership="company"'
    ironledger agent run %s --page 127.0.0.1:8613
  Through nginx, and to a gateway at another site that asks nobody:
    curl -k --cert agent/device.pem -c jar -d person=%s -d mfa=true https://%s/sign-in
    curl -k --cert agent/device.pem -b jar -i https://%s/crew-rota/
    curl -k --cert agent/device.pem -H "Authorization: Bearer $(ironledger agent statement --dir agent --audience %s)" %s
  Open its USB ports, which the house forbids, and close them again:
    echo open > machine/etc/site/usb-ports
    echo closed > machine/etc/site/usb-ports`, a.Bold(o.newcomer.Dir()), o.newcomer.Dir(), demo.NewcomerID, demo.NewcomerSerial, agent, demo.NewcomerOwner,
			agent, demo.NewcomerOwner, o.front, o.front, demo.GatewayName, a.Bold(o.gateway))
	}
}

// playStory runs a service on a free port and plays the story against it.
func playStory(ctx context.Context, a *shell.App, o *serveOptions, log *slog.Logger, clock *demo.Clock,
	fast bool) error {
	o.listen, o.devices, o.atDoor = "127.0.0.1:0", "127.0.0.1:0", func(string) {}
	o.network.access, o.network.accounting = "127.0.0.1:0", "127.0.0.1:0"
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	played := errors.New("played")
	err := serve(ctx, o, log, func(url, token string) error {
		cl, err := client.New(url, cmp.Or(token, os.Getenv("IRONLEDGER_ADMIN_TOKEN")), "")
		if err != nil {
			return err
		}
		at, err := demo.Fill(ctx, cl, clock)
		if err != nil {
			return err
		}
		ship, err := demo.Network(ctx, cl, at)
		if err != nil {
			return err
		}
		around, err := demo.Partners(ctx, cl, url)
		if err != nil {
			return err
		}
		voice := demo.Voice{Out: a.Out, Bold: a.Bold, Accent: a.Rust, Mark: a.Mark, Sentences: shell.Sentences,
			Plain: shell.PlainLinks}
		if !fast && a.Tty() {
			voice.Pause = 1500 * time.Millisecond
		}
		if err := demo.Tell(ctx, cl, url, around, ship, voice); err != nil {
			return err
		}
		return played
	})
	if errors.Is(err, played) {
		return nil
	}
	return err
}
