package demo

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"
	"time"

	"golang.org/x/mod/sumdb/note"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/rulebook"
	data "ironledger.example/demo"
	"ironledger.example/internal/client"
	"ironledger.example/internal/standin"
)

// Voice is how a story is told in a terminal.
type Voice struct {
	Out          io.Writer
	Bold, Accent func(string) string
	Mark         func(level string, rank, top int) string // draws a level
	Sentences    func(string) string                      // a reason, a sentence a line
	Plain        func(string) string                      // a text with links as it is read
	Pause        time.Duration                            // before each step
}

// teller plays the story of the demo: each step says what is asked, asks the
// service over its API, and prints the answer and why.
type teller struct {
	Voice
	client *client.Client
	around *Around
	ship   *Aboard
	ctx    context.Context
	step   int
	url    string // of the service
}

// Tell plays the story against a service that was filled, with partners that hear of it.
func Tell(ctx context.Context, cl *client.Client, url string, around *Around, ship *Aboard, v Voice) error {
	t := &teller{Voice: v, client: cl, around: around, ship: ship, ctx: ctx, url: url}
	t.line("%s\nA morning at Gullholm Ferries, played against a service over its API.", t.Bold("IRON LEDGER"))
	for _, act := range []func() error{t.fleet, t.tablet, t.mended, t.home, t.threat, t.aboard, t.told, t.partner,
		t.silence, t.emergency,
		t.arrival, t.newcomer, t.mistake, t.lockout, t.proof} {
		if err := act(); err != nil {
			return err
		}
	}
	t.line("\nEvery answer above is in the service's ledger with its reasons. Run %s to look around yourself.",
		t.Bold("ironledger demo"))
	return nil
}

func (t *teller) line(format string, args ...any) { fmt.Fprintf(t.Out, format+"\n", args...) }

// scene begins a step.
func (t *teller) scene(format string, args ...any) {
	if t.Pause > 0 {
		select {
		case <-time.After(t.Pause):
		case <-t.ctx.Done():
		}
	}
	t.step++
	t.line("\n%s %s", t.Accent(fmt.Sprintf("%d.", t.step)), t.Bold(fmt.Sprintf(format, args...)))
}

func (t *teller) say(label, format string, args ...any) {
	t.line("   %-7s %s", label, strings.ReplaceAll(fmt.Sprintf(format, args...), "\n",
		"\n"+strings.Repeat(" ", 11)))
}

// ask puts a request to the AuthZEN endpoint and tells the answer.
func (t *teller) ask(person, resource, action string, ctx access.Context) error {
	from := ""
	if ctx.Device != nil {
		from = " from " + ctx.Device.ID
	}
	if ctx.IP != "" {
		from += " at " + ctx.IP
	}
	if ctx.Auth != nil && ctx.Auth.MFA != nil && *ctx.Auth.MFA {
		from += " with a second factor"
	}
	t.say("asked", "may %s %s %s%s?", person, action, resource, from)
	got, err := t.client.Evaluate(t.ctx, access.Evaluation{Subject: access.Entity{Type: "user", ID: person},
		Action:   access.Action{Name: action},
		Resource: access.Entity{Type: "resource", ID: resource}, Context: &ctx})
	if err != nil {
		return err
	}
	d := got.Value.Context
	word := t.Bold(strings.ToUpper(string(d.Outcome)))
	if d.Outcome != access.Allow {
		word = t.Accent(strings.ToUpper(string(d.Outcome)))
	}
	t.say("answer", "%s  (decision %s)", word, d.ID)
	t.say("why", "%s", t.Sentences(d.ReasonAdmin["en"]))
	for _, m := range access.RemediesIn("en", d.Remedies) {
		t.say("cure", "%s. %s", m.Title, t.Plain(m.Steps))
	}
	return nil
}

// report brings one report and tells how the device stands after it.
func (t *teller) report(source, device, evidence string) error {
	t.say("report", "%s says of %s: %s", source, device, evidence)
	body := fmt.Sprintf(`{"source":%q,"observed_at":%q,"identity":{"id":%q},"evidence":%s}`, source,
		time.Now().UTC().Format(time.RFC3339), device, evidence)
	got, err := t.client.PostEvidence(t.ctx, api.PostEvidenceParams{}, "application/json", strings.NewReader(body))
	if err != nil {
		return err
	}
	r := got.Value.Results[0]
	t.say("stands", "%s, before it %s", t.Bold(r.Level), r.PreviousLevel)
	return nil
}

func on(device, ip string, mfa ...bool) access.Context {
	c := access.Context{IP: ip}
	if device != "" {
		c.Device = &access.DeviceRef{ID: device}
	}
	if len(mfa) > 0 {
		c.Auth = &access.Auth{MFA: &mfa[0]}
	}
	return c
}

func (t *teller) fleet() error {
	t.scene("The administrator looks over the fleet.")
	got, err := t.client.GetStatus(t.ctx)
	if err != nil {
		return err
	}
	top := len(got.Value.Levels) - 1
	for i := top; i >= 0; i-- {
		l := got.Value.Levels[i]
		t.say("", "%s", fmt.Sprintf("%-16s %3d", t.Mark(l.Level, i, top), l.Devices))
	}
	page, err := t.client.ListDevices(t.ctx, api.ListDevicesParams{Where: "level == barred", Limit: 20})
	if err != nil {
		return err
	}
	for _, d := range page.Value.Items {
		t.say("barred", "%s  %s  held by %s", d.ID, d.Name, strings.Join(d.Binding, ", "))
	}
	return nil
}

// told has a laptop fall and heal, and tells who heard of it, how soon.
func (t *teller) told() error {
	const device, person = "GF-L-1043", "ulla.glimm@gullholm.example"
	t.scene("Another laptop falls: whoever must know knows within the second.")
	begun := time.Now()
	if err := t.report("sensor", device, `{"threat.score": 95}`); err != nil {
		return err
	}
	if err := t.await(func() bool {
		return strings.HasPrefix(t.around.SignIn.Stands(person),
			"signed out")
	}); err != nil {
		return err
	}
	t.say("told", "the harbour's sign-in, by Shared Signals: it signed %s out %s after the report", person,
		soon(begun))
	if err := t.await(func() bool { return strings.HasPrefix(t.around.Room.Last(), device) }); err != nil {
		return err
	}
	t.say("told", "the watch room, by a web hook: %s", strings.Replace(t.around.Room.Last(), "; ", ";\n", 1))
	begun = time.Now()
	if err := t.report("sensor", device, `{"threat.score": 0}`); err != nil {
		return err
	}
	if err := t.await(func() bool { return t.around.SignIn.Stands(person) == "may sign in again" }); err != nil {
		return err
	}
	t.say("told", "the harbour's sign-in: %s may sign in again, %s after the cure", person, soon(begun))
	return nil
}

// partner tells of a phone that falls with the partner who manages it, and of a risk that another sees.
func (t *teller) partner() error {
	const phone, serial, laptop = "GF-P-4101", "GF-P-4101-S", "GF-L-1043"
	t.scene("What partners know comes in by itself: an inventory is fetched, an event is pushed.")
	run := func(what, to string) error {
		t.around.Desk.Turn(serial, to)
		got, err := t.client.GetFeed(t.ctx, "phone-desk")
		if err != nil {
			return err
		}
		was := got.Value.Runs[0].Number
		if _, err := t.client.RunFeed(t.ctx, "phone-desk", api.FeedRunDraft{}); err != nil {
			return err
		}
		if err := t.await(func() bool {
			got, err = t.client.GetFeed(t.ctx, "phone-desk")
			return err == nil && len(got.Value.Runs) > 0 && got.Value.Runs[0].Number > was
		}); err != nil {
			return err
		}
		r := got.Value.Runs[0]
		t.say("fetched", "%s: %d machines on %d pages, %d taken, %d changed level", what, r.Items, r.Pages,
			r.Accepted, r.Moved)
		d, err := t.client.GetDevice(t.ctx, phone)
		if err != nil {
			return err
		}
		t.say("stands", "%s at %s", phone, t.Bold(d.Value.Level))
		return nil
	}
	if err := run("the phone desk finds the disk of "+phone+" open", "open"); err != nil {
		return err
	}
	if err := run("it is sealed again", "sealed"); err != nil {
		return err
	}
	for _, r := range []struct{ was, is string }{{"LOW", "HIGH"}, {"HIGH", "LOW"}} {
		begun := time.Now()
		if err := t.around.Sensor.Tell(t.ctx, laptop+"-S", r.was, r.is); err != nil {
			return err
		}
		d, err := t.client.GetDevice(t.ctx, laptop)
		if err != nil {
			return err
		}
		t.say("heard", "the sensor's event: the risk of %s is %s; %s later it stands at %s", laptop, r.is,
			soon(begun), t.Bold(d.Value.Level))
	}
	return nil
}

// soon is how long ago something was, in milliseconds.
func soon(begun time.Time) string { return fmt.Sprintf("%d ms", time.Since(begun).Milliseconds()) }

// await waits a few seconds for what is on its way.
func (t *teller) await(holds func() bool) error {
	for until := time.Now().Add(10 * time.Second); !holds(); {
		if time.Now().After(until) {
			return errors.New("a partner did not hear of it")
		}
		select {
		case <-time.After(time.Millisecond):
		case <-t.ctx.Done():
			return t.ctx.Err()
		}
	}
	return nil
}

func (t *teller) tablet() error {
	t.scene("On the bridge of the Dunlin, the captain's tablet is behind on its system.")
	return t.ask("birk.strand@gullholm.example", "chart-room", "open", on("GF-T-2107", "10.40.1.3"))
}

func (t *teller) mended() error {
	t.scene("He updates it. The report takes effect within the request that brings it.")
	if err := t.report("mdm", "GF-T-2107", `{"os.version":"17.6.1"}`); err != nil {
		return err
	}
	return t.ask("birk.strand@gullholm.example", "chart-room", "open", on("GF-T-2107", "10.40.1.3"))
}

func (t *teller) home() error {
	t.scene("Finance runs the payroll from home, and is asked for a second factor.")
	if err := t.ask("maren.holt@gullholm.example", "payroll", "open",
		on("GF-L-1042", "192.0.2.44", false)); err != nil {
		return err
	}
	return t.ask("maren.holt@gullholm.example", "payroll", "open", on("GF-L-1042", "192.0.2.44", true))
}

func (t *teller) threat() error {
	t.scene("The threat sensor finds something on that laptop. Its access ends at once, and the cure restores " +
		"it at once.")
	if err := t.report("sensor", "GF-L-1042", `{"threat.score":92}`); err != nil {
		return err
	}
	if err := t.ask("maren.holt@gullholm.example", "payroll", "open", on("GF-L-1042", "10.20.4.7")); err != nil {
		return err
	}
	if err := t.report("sensor", "GF-L-1042", `{"threat.score":0}`); err != nil {
		return err
	}
	return t.ask("maren.holt@gullholm.example", "payroll", "open", on("GF-L-1042", "10.20.4.7"))
}

// aboard has the captain come aboard with three devices, and one of them fall and heal.
func (t *teller) aboard() error {
	t.scene("Aboard the Dunlin the network asks too: one man, three devices, three sets of places.")
	if err := t.report("mdm", PhoneAboard, handedOn); err != nil {
		return err
	}
	for _, s := range []struct {
		who string
		standin.Station
	}{{"his company tablet, by its certificate", t.ship.Tablet}, {"his own phone, by its address", t.ship.Phone},
		{"a phone that nobody knows", t.ship.Stranger}} {
		on, err := t.ship.Point.Join(t.ctx, s.Station)
		if err != nil {
			return fmt.Errorf("%s: %w", s.who, err)
		}
		t.say("joins", "%s: %s, which reaches %s", s.who, t.Bold("VLAN "+on.VLAN), strings.Join(on.Reaches, ", "))
	}
	for _, step := range []struct{ evidence, vlan, how string }{{`{"threat.score": 93}`, "90", "to get well"},
		{`{"threat.score": 0}`, "40", "and back"}} {
		begun := time.Now()
		if err := t.report("sensor", TabletAboard, step.evidence); err != nil {
			return err
		}
		waits, cancel := context.WithTimeout(t.ctx, 10*time.Second)
		err := t.ship.Point.Await(waits, t.ship.Tablet.Address, func(x *standin.OnNetwork) bool {
			return x != nil && x.VLAN == step.vlan
		})
		cancel()
		if err != nil {
			return fmt.Errorf("the tablet was not moved: %w", err)
		}
		on := t.ship.Point.On(t.ship.Tablet.Address)
		t.say("moved", "the tablet, %s: %s, which reaches %s; %s after the report", step.how, t.Bold("VLAN "+on.VLAN),
			strings.Join(on.Reaches, ", "), soon(begun))
	}
	return nil
}

func (t *teller) silence() error {
	t.scene("A kiosk on the south quay has not been heard from. Missing is not failing: the answer says what " +
		"is not known.")
	return t.ask("edda.brandt@gullholm.example", "ticket-till", "sell", on("GF-K-3104", "10.30.2.12"))
}

func (t *teller) emergency() error {
	t.scene("The break-glass account gets in when nothing else does, and it is written down.")
	return t.ask("harbourmaster@gullholm.example", "vault", "open", on("", ""))
}

func (t *teller) arrival() error {
	const alva, serial = "alva.iver@gullholm.example", "GF-L-1065-S"
	t.scene("A new laptop comes out of its box. It is on the roster, so it comes in by itself, and earns what " +
		"it may reach.")
	if err := t.ask(alva, "device-desk", "enrol", on("", "10.20.4.9", true)); err != nil {
		return err
	}
	t.say("enrol", "the laptop with the serial %s", serial)
	got, err := t.client.EnrolDevice(t.ctx, api.Claims{Serial: serial, Platform: "windows", Form: "laptop",
		Owner: alva})
	if err != nil {
		return err
	}
	t.say("answer", "%s: %s", t.Bold(string(got.Value.State)), got.Value.Why)
	device := got.Value.Device
	if err := t.ask(alva, "credential-desk", "register", on(device, "10.20.4.9", true)); err != nil {
		return err
	}
	if err := t.report("mdm", device,
		fmt.Sprintf(`{"platform":"windows","form":"laptop","managed":true,"ownership":"company","owner":%q,"os.version":"10.0.22631.4460","storage.encrypted":true,"firewall.on":true,"antimalware.on":true,"antimalware.updated_at":%q,"screen_lock.after":"10m","threat.score":0}`,
			alva, time.Now().UTC().Format(time.RFC3339))); err != nil {
		return err
	}
	if err := t.ask(alva, "credential-desk", "register", on(device, "10.20.4.9", true)); err != nil {
		return err
	}
	return t.ask(alva, "payroll", "open", on(device, "10.20.4.9"))
}

func (t *teller) lockout() error {
	t.scene("Somebody forgets the emergency account and asks too much of the crew's phones. That is right in " +
		"form, and held back.")
	files := data.Rulebook()
	for i := range files {
		files[i].Text = strings.NewReplacer("break_glass: [harbourmaster@gullholm.example]",
			"break_glass: []", "need: level >= limited\n",
			"need: level >= strong and form == laptop\n").Replace(files[i].Text)
	}
	_, err := t.client.PublishRulebook(t.ctx, api.Draft{Files: files, Message: "Laptops only"})
	var p *client.ProblemError
	if !errors.As(err, &p) || len(p.Impacts) == 0 {
		return fmt.Errorf("the publication was not held back: %w", err)
	}
	t.say("answer", "%s", t.Accent(p.Title))
	for _, x := range p.Impacts {
		t.say("why", "%s", x.Message)
	}
	return nil
}

func (t *teller) proof() error {
	t.scene("In the afternoon an auditor asks why the captain was refused, and for proof.")
	page, err := t.client.ListDecisions(t.ctx,
		api.ListDecisionsParams{Device: "GF-T-2107", Outcome: api.Outcome(access.Deny), Limit: 1})
	if err != nil || len(page.Value.Items) == 0 {
		return fmt.Errorf("the refusal is not recorded: %w", err)
	}
	d := page.Value.Items[0]
	again, err := t.client.ReplayDecision(t.ctx, d.ID)
	if err != nil {
		return err
	}
	t.say("replay", "decision %s, made again from rulebook %d and the evidence of that moment: %s", d.ID,
		again.Value.Rulebook, t.Bold(map[bool]string{true: "the same", false: "different"}[again.Value.Same]))
	now, err := t.client.GetLedger(t.ctx)
	if err != nil {
		return err
	}
	key, err := note.NewVerifier(now.Value.Key)
	if err != nil {
		return err
	}
	entry, err := t.client.GetEntry(t.ctx, d.Seq)
	if err != nil {
		return err
	}
	head, err := entry.Value.Proof.Check(key)
	if err != nil {
		return err
	}
	t.say("proof", "entry %d is in the tree of %d entries that %s signed; %d hashes show it", d.Seq,
		head.Size, head.Origin, len(entry.Value.Proof.Hashes))
	return nil
}

func (t *teller) mistake() error {
	t.scene("Somebody publishes a rulebook with two mistakes. It is refused whole and the one in force stays.")
	files := data.Rulebook()
	for i := range files {
		files[i].Text = strings.Replace(strings.Replace(files[i].Text, "os.version >= 17.5, android",
			"os.versoin >= 18, android", 1), "cap: barred", "cap: bared", 1)
	}
	_, err := t.client.PublishRulebook(t.ctx, api.Draft{Files: files, Message: "Tablets need iPadOS 18"})
	var p *client.ProblemError
	if !errors.As(err, &p) {
		return fmt.Errorf("the broken rulebook was not refused: %w", err)
	}
	t.say("answer", "%s", t.Accent(p.Detail))
	for _, x := range p.Problems {
		t.say("why", "%s", rulebook.Problems{x}.Error())
	}
	return nil
}
