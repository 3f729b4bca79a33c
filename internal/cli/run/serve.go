// Package run has the commands that run something here: the service, the demo, the
// collecting of evidence.
package run

import (
	"cmp"
	"context"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/netip"
	"net/url"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"ironledger.example/console"
	"ironledger.example/core/value"
	"ironledger.example/internal/audit"
	"ironledger.example/internal/authority"
	"ironledger.example/internal/cli/shell"
	"ironledger.example/internal/engine"
	"ironledger.example/internal/feed"
	"ironledger.example/internal/httpapi"
	"ironledger.example/internal/metrics"
	"ironledger.example/internal/notice"
	"ironledger.example/internal/outbound"
	"ironledger.example/internal/recheck"
	"ironledger.example/internal/sealed"
	"ironledger.example/internal/service"
	"ironledger.example/internal/stream"
)

type serveOptions struct {
	data, listen, cert, key, public, logLevel string
	logJSON, recheck                          bool
	origin, newKey, resetClock, newAdmin      string
	acme                                      acmeOptions
	keepPast                                  string
	metrics                                   string   // where metrics are told without a token
	devices                                   string   // where devices get certificates
	deviceHosts                               []string // by which they reach it
	network                                   networkOptions
	inside                                    []string // networks that may be called, though they are inside
	folders                                   []string // below which feeds may read
	smtp, mailFrom, smtpPassword, smtpCA      string
	noticesAfter                              time.Duration
	atDoor                                    func(url string) // told where devices are answered, before ready
	now                                       func() time.Time // nil: time.Now

	served *reloaded      // the certificate in files; nil for none
	config string         // the file that settings were read from, "" for none
	names  []string       // of the settings that it may have
	level  *slog.LevelVar // of the log; nil: it stays
}

// clockBehind is by how long the clock of the service stands behind that of the machine. It is
// set when a binary for tests is linked (go build -ldflags -X), and by nothing else: they need
// records of long ago.
var clockBehind string

// ServeCmd is the command serve.
func ServeCmd(a *shell.App) *cobra.Command {
	var o serveOptions
	checkOnly := false
	c := &cobra.Command{
		Use: "serve --data DIR", Short: "Run the service",
		Long: `Run the service. Its records are kept in DIR; the console, the API and the AuthZEN
endpoint are served on the same address.

Settings come from --config (YAML: flags without their dashes as keys), then the environment
(IRONLEDGER_LISTEN for --listen, and so on), then flags; the later wins. --check-config finds
what is wrong with them and starts nothing. At SIGHUP the certificate and the level of the
log are read again.

At the first start the administrator's bearer token is taken from
IRONLEDGER_ADMIN_TOKEN, or made and written into first-admin.token in DIR, which only its
owner can read. Later nothing in the environment makes a token; when all are lost,
--new-admin-token makes one for a reason, which is recorded, in new-admin.token. Without TLS
the service listens on loopback only.`,
		Example: "  ironledger serve --data /var/lib/ironledger\n  ironledger serve --data . --listen :8600 " +
			"--tls-cert cert.pem --tls-key key.pem",
		Args: cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			kept, err := load(cmd.LocalFlags(), o.config)
			if err != nil {
				return err
			}
			if o.data == "" {
				return shell.Usagef("say where the records are: --data DIR")
			}
			o.names = kept.names()
			log, err := logger(a, &o)
			if err != nil {
				return err
			}
			if checkOnly {
				if err := o.examine(log); err != nil {
					return err
				}
				return kept.show(a)
			}
			if clockBehind != "" {
				behind, err := time.ParseDuration(clockBehind)
				if err != nil {
					return err
				}
				log.Warn("this binary is for tests: its clock is wrong", "behind", behind)
				o.now = func() time.Time { return time.Now().Add(-behind) }
			}
			o.atDoor = func(url string) { shell.Line(a.Err, "Devices are answered at %s", url) }
			return serve(cmd.Context(), &o, log, o.announce(a))
		},
	}
	o.flags(c.Flags())
	addConfig(c, &o.config, &checkOnly)
	return c
}

// announce tells the terminal where the service answers, and where the file with the token
// is that was made.
func (o *serveOptions) announce(a *shell.App) readyFunc {
	return func(url, token string) error {
		if token != "" {
			name := "first-admin"
			if o.newAdmin != "" {
				name = "new-admin"
			}
			path, err := keepToken(o.data, name, token)
			if err != nil {
				return err
			}
			shell.Line(a.Err, "The administrator's token is in %s; keep it elsewhere, and remove the file", path)
		}
		shell.Line(a.Err, "Iron Ledger answers at %s", url)
		return nil
	}
}

func (o *serveOptions) flags(f *pflag.FlagSet) {
	f.StringVar(&o.data, "data", "", "the folder of the records")
	f.StringVar(&o.listen, "listen", shell.DefaultListen, "the address to listen on")
	f.StringVar(&o.cert, "tls-cert", "", "the certificate, PEM")
	f.StringVar(&o.key, "tls-key", "", "its key, PEM")
	f.StringSliceVar(&o.acme.hosts, "acme-host", nil,
		"a name by which the service is reached, to get its certificate for by ACME; its terms are accepted with this")
	f.StringVar(&o.acme.directory, "acme-directory", "", "the directory of the ACME server")
	f.StringVar(&o.acme.mail, "acme-mail", "", "where the ACME server writes to")
	f.StringVar(&o.acme.ca, "acme-ca", "",
		"certificates to trust the ACME server by, PEM (default: those of the machine)")
	f.StringVar(&o.public, "public-url", "", "the URL by which others reach the service")
	f.StringVar(&o.devices, "device-listen", "",
		"the address where devices get certificates and show them, over TLS, as :8443 (default: none)")
	f.StringSliceVar(&o.deviceHosts, "device-host", nil,
		"a name or address by which devices reach it, if our own authority is to certify it (default: that of "+
			"--public-url, and this machine)")
	o.network.flags(f)
	f.StringVar(&o.origin, "ledger-name", "",
		"the name of a new ledger, as log.example.org (default: one that is made up)")
	f.StringVar(&o.newKey, "new-ledger-key", "",
		"go on with a new key for the ledger in place of one that is lost: the reason, which is recorded")
	f.StringVar(&o.resetClock, "reset-clock", "",
		"let time go back to the machine's clock, which stands before the ledger's: the reason, which is recorded")
	f.StringVar(&o.newAdmin, "new-admin-token", "",
		"make and print another administrator's token, as when all are lost: the reason, which is recorded")
	f.StringVar(&o.keepPast, "keep-past", "90d",
		"how long past evidence is kept, to compute past standings and decisions again")
	f.StringVar(&o.metrics, "metrics-listen", "",
		"a loopback address where /metrics is answered without a token, as 127.0.0.1:9460 (default: none)")
	f.StringVar(&o.logLevel, "log-level", "info", "debug, info, warn or error")
	f.BoolVar(&o.logJSON, "log-json", false, "log as JSON")
	f.BoolVar(&o.recheck, "check-fast-paths", false,
		"work out again by the plain way what is kept up from changes, and end where the two differ: slow, for trials")
	o.outwards(f)
}

// outwards are the settings about those whom the service calls.
func (o *serveOptions) outwards(f *pflag.FlagSet) {
	f.StringSliceVar(&o.inside, "call-inside", nil,
		"networks on this machine, its link or in private ranges that receivers and feeds may be in, as "+
			"10.20.0.0/16 (default: none)")
	f.StringSliceVar(&o.folders, "feed-folder", nil,
		"a folder below which feeds may read files, as /srv/inventory (default: none)")
	f.StringVar(&o.smtp, "smtp", "",
		"the mail server that notices are sent by, as smtps://posture@mail.example.org:465 (default: mail waits)")
	f.StringVar(&o.mailFrom, "mail-from", "", "the sender of notices, as 'Iron Ledger <posture@example.org>'")
	f.StringVar(&o.smtpPassword, "smtp-password-file", "", "the file with the password for the mail server")
	f.StringVar(&o.smtpCA, "smtp-ca", "",
		"certificates to trust the mail server by, PEM (default: those of the machine)")
	f.DurationVar(&o.noticesAfter, "notices-after", notice.GatherFor,
		"how long a notice waits for others to go along, or for what it tells of to heal")
}

func logger(a *shell.App, o *serveOptions) (*slog.Logger, error) {
	var level slog.Level
	if err := level.UnmarshalText([]byte(o.logLevel)); err != nil {
		return nil, shell.Usagef("--log-level is debug, info, warn or error, not %q", o.logLevel)
	}
	o.level = new(slog.LevelVar)
	o.level.Set(level)
	h := &slog.HandlerOptions{Level: o.level}
	if o.logJSON {
		return slog.New(slog.NewJSONHandler(a.Err, h)), nil
	}
	return slog.New(slog.NewTextHandler(a.Err, h)), nil
}

// suites are those of TLS 1.2 that keep what was said secret afterwards and
// authenticate it (RFC 9325, section 4.2): none with CBC. TLS 1.3 has its own.
func suites() []uint16 {
	var out []uint16
	for _, s := range tls.CipherSuites() {
		if strings.Contains(s.Name, "_ECDHE_") &&
			(strings.Contains(s.Name, "GCM") || strings.Contains(s.Name, "POLY1305")) {
			out = append(out, s.ID)
		}
	}
	return out
}

// check reads the options that have a form.
func (o *serveOptions) check(log *slog.Logger) (certificate *tls.Config, keep time.Duration, err error) {
	if o.cert != "" || o.key != "" {
		pair, err := tls.LoadX509KeyPair(o.cert, o.key)
		if err != nil {
			return nil, 0, fmt.Errorf("the certificate: %w", err)
		}
		o.served = &reloaded{cert: o.cert, key: o.key, pair: &pair, log: log}
		certificate = &tls.Config{GetCertificate: o.served.get,
			MinVersion: tls.VersionTLS12, CipherSuites: suites()}
	}
	if len(o.acme.hosts) > 0 {
		if certificate != nil {
			return nil, 0, shell.Usagef("the certificate comes from --tls-cert or by --acme-host, not both")
		}
		if certificate, err = o.acme.config(o.data); err != nil {
			return nil, 0, err
		}
	}
	if u, err := url.Parse(o.public); o.public != "" &&
		(err != nil || u.Scheme != "https" && u.Scheme != "http" || u.Host == "" ||
			u.RawQuery+u.Fragment != "" || u.User != nil) {
		return nil, 0, shell.Usagef("--public-url is an address as https://posture.gullholm.example, not %q",
			o.public)
	}
	keep = audit.DefaultKeepPast
	if o.keepPast != "" {
		d, err := value.ParseDuration(o.keepPast)
		if keep = time.Duration(d.Num()) * time.Microsecond; err != nil || keep < time.Hour {
			return nil, 0, shell.Usagef("--keep-past is a duration of an hour at least, as 90d, not %q", o.keepPast)
		}
	}
	return certificate, keep, nil
}

// policy is where others may be called.
func (o *serveOptions) policy() (p outbound.Policy, err error) {
	for _, text := range o.inside {
		n, err := netip.ParsePrefix(text)
		if err != nil {
			return p, shell.Usagef("--call-inside is a network as 10.20.0.0/16, not %q", text)
		}
		p.Inside = append(p.Inside, n.Masked())
	}
	return p, nil
}

// mailer is the mail server that notices are sent by; nil for none.
func (o *serveOptions) mailer() (notice.Mailer, error) {
	if o.smtp == "" {
		return nil, nil
	}
	password, trusted := "", (*tls.Config)(nil)
	if o.smtpPassword != "" {
		if err := sealed.OwnersAlone(o.smtpPassword); err != nil {
			return nil, err
		}
		raw, err := os.ReadFile(o.smtpPassword)
		if err != nil {
			return nil, err
		}
		password = strings.TrimSpace(string(raw))
	}
	if o.smtpCA != "" {
		raw, err := os.ReadFile(o.smtpCA)
		if err != nil {
			return nil, err
		}
		trusted = &tls.Config{RootCAs: x509.NewCertPool()}
		if !trusted.RootCAs.AppendCertsFromPEM(raw) {
			return nil, fmt.Errorf("%s holds no certificate in PEM", o.smtpCA)
		}
	}
	m, err := notice.OpenSMTP(o.smtp, password, o.mailFrom, trusted)
	if err != nil {
		return nil, shell.Usagef("--smtp and --mail-from: %v", err)
	}
	return m, nil
}

// hosts are the names by which devices reach the service.
func (o *serveOptions) hosts(public string) []string {
	if len(o.deviceHosts) > 0 {
		return o.deviceHosts
	}
	out := []string{"localhost", "127.0.0.1", "::1"}
	if u, err := url.Parse(public); err == nil && !slices.Contains(out, u.Hostname()) {
		out = append([]string{u.Hostname()}, out...)
	}
	return out
}

// readyFunc is told the URL when the service answers, and the administrator's token if one
// was made.
type readyFunc func(url, token string) error

// wanted are the settings as they were read and found right.
type wanted struct {
	certificate *tls.Config // nil: without TLS
	keep        time.Duration
	inside      outbound.Policy
	mailer      notice.Mailer
}

func (o *serveOptions) wanted(log *slog.Logger) (w wanted, err error) {
	if w.certificate, w.keep, err = o.check(log); err != nil {
		return w, err
	}
	if w.inside, err = o.policy(); err != nil {
		return w, err
	}
	if o.noticesAfter <= 0 || o.noticesAfter > time.Hour {
		return w, shell.Usagef("--notices-after is a duration of an hour at most, as 20s, not %s", o.noticesAfter)
	}
	w.mailer, err = o.mailer()
	return w, err
}

// serve runs the service until ctx ends. ready is called when it answers, with
// its URL and the administrator's token if one was made.
func serve(ctx context.Context, o *serveOptions, log *slog.Logger, ready readyFunc) error {
	w, err := o.wanted(log)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(o.data, 0o700); err != nil {
		return err
	}
	slog.SetDefault(log)
	engine.TuneMemory(ctx, log)
	ignoreFileLimit()
	l, err := net.Listen("tcp", o.listen)
	if err != nil {
		return err
	}
	svc, err := service.Open(ctx, service.Options{Dir: o.data,
		AdminToken: os.Getenv("IRONLEDGER_ADMIN_TOKEN"), Log: log, Now: o.now,
		Origin: o.origin, NewKey: o.newKey, ResetClock: o.resetClock, NewAdmin: o.newAdmin, KeepPast: w.keep})
	if err != nil {
		return errors.Join(err, l.Close())
	}
	http := &web{listener: l, certificate: w.certificate}
	fronts, ready, err := o.open(svc, log, w, http, ready)
	if err != nil {
		return errors.Join(err, svc.Close())
	}
	if o.names != nil { // not under a demo, which ends with its terminal
		o.reloads(ctx, log, o.served)
	}
	svc.Chore(svc.View.Warming) // once all is set that a look goes by
	err = runFronts(ctx, log, fronts, func() error { return ready(http.url(), svc.FirstToken) })
	return errors.Join(err, svc.Close())
}

// open starts what works by itself in svc, and opens its fronts: http first, then those that
// o asks for.
func (o *serveOptions) open(svc *service.Service, log *slog.Logger, w wanted, http *web,
	ready readyFunc) ([]front, readyFunc, error) {
	public := cmp.Or(strings.TrimSuffix(o.public, "/"), http.url())
	fronts := []front{http}
	if o.recheck { // before anybody asks for anything
		fronts = append(fronts, recheck.Of(svc.Engine, svc.View, svc.Decisions))
	}
	told := metrics.Of(svc, shell.Version(), o.data)
	svc.Streams.Start(stream.Options{Issuer: public, Policy: w.inside})
	svc.Heard.Start(w.inside)
	svc.Authority.Start(public)
	svc.Statement.Start(shell.Version())
	svc.Controls.Start(0)
	svc.Feeds.Start(feed.Options{Policy: w.inside, Folders: o.folders})
	svc.Notices.Start(notice.Options{Base: public, Mailer: w.mailer, Gather: o.noticesAfter})
	options := httpapi.Options{Service: svc, Log: log, Version: shell.Version(), TLS: w.certificate != nil,
		Public: public, Console: console.Files(), Metrics: told.Handler(log), Limited: told.Limited}
	http.handler = httpapi.Handler(options)
	if o.metrics != "" {
		m, err := newMeter(o.metrics, told.Handler(log))
		if err != nil {
			return nil, nil, err
		}
		fronts = append(fronts, m)
	}
	own := w.certificate
	if len(o.deviceHosts) > 0 {
		own = nil
	}
	doors, err := o.network.open(svc, own, o.hosts(public))
	if err != nil {
		return nil, nil, err
	}
	fronts = append(fronts, doors...)
	if o.devices == "" {
		return fronts, ready, nil
	}
	d, err := newDoor(o.devices, own, o.hosts(public), svc.Authority, options)
	if err != nil {
		return nil, nil, err
	}
	svc.Authority.AtDoor(authority.Door{URL: d.publicURL(o.hosts(public)), Own: own == nil})
	return append(fronts, d), func(url, token string) error {
		o.atDoor(d.url())
		return ready(url, token)
	}, nil
}
