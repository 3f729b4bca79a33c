package demo

import (
	"context"
	"encoding/json"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"ironledger.example/core/feed"
	data "ironledger.example/demo"

	"ironledger.example/api"
	"ironledger.example/internal/client"
	"ironledger.example/internal/standin"
)

// The receivers in the rulebook's signals that the stand-ins are.
const (
	signInReceiver = "harbour-sign-in"
	chatReceiver   = "watch-room"
)

// Partner is a stand-in that runs, for people to look at.
type Partner struct{ Title, URL string }

// Around are the stand-ins for partner systems that hear of devices.
type Around struct {
	SignIn *standin.Provider
	Room   *standin.Chat
	Desk   *standin.Desk
	Sensor *standin.Sensor
	Pages  []Partner
}

// Partners starts stand-ins for partner systems until ctx ends.
func Partners(ctx context.Context, cl *client.Client, url string) (*Around, error) {
	provider, at, err := signIn(ctx, cl, url)
	if err != nil {
		return nil, fmt.Errorf("the stand-in for an identity provider hears nothing: %w", err)
	}
	room, page, err := chat(ctx, cl)
	if err != nil {
		return nil, fmt.Errorf("the stand-in for a chat room hears nothing: %w", err)
	}
	a := &Around{SignIn: provider, Room: room, Pages: []Partner{{"the harbour's sign-in, which hears of " +
		"devices by Shared Signals", at},
		{"the watch room, which a web hook tells of falls", page}}}
	if err := a.bringing(ctx, cl, url); err != nil {
		return nil, fmt.Errorf("the stand-ins that bring evidence: %w", err)
	}
	return a, nil
}

// The sources that the stand-ins are which bring evidence, as the rulebook has them.
const (
	deskSource   = `  - {id: phone-desk, rank: 4, title: The phone desk, provides: [platform, storage, passcode], vouches: {for: 24h}}`
	sensorSource = `  - {id: sensor, rank: 5, title: Threat sensor, provides: [threat, threats, integrity], quiet_after: 4h}`
	sensorIssuer = "https://sensor.example"
	sensorHeard  = `  - id: sensor
    rank: 5
    title: Threat sensor
    provides: [threat, threats, integrity]
    quiet_after: 4h
    signals:
      issuer: ` + sensorIssuer + `
      jwks: %s/jwks.json
      audience: https://ledger.gullholm.example
      device: serial
      map:
        risk-level-change: {sets: threat.score, words: {LOW: 0, MEDIUM: 50, HIGH: 95}}`
)

// bringing starts the stand-ins that bring evidence, and lets the rulebook take it.
func (a *Around) bringing(ctx context.Context, cl *client.Client, url string) error {
	machines, serials := managed()
	a.Desk = standin.NewDesk("gullholm-ferries", machines)
	desk, err := standin.Serve(ctx, a.Desk)
	if err != nil {
		return err
	}
	if a.Sensor, err = standin.NewSensor(sensorIssuer, "https://ledger.gullholm.example", url+"/ssf/events",
		serials); err != nil {
		return err
	}
	sensor, err := standin.Serve(ctx, a.Sensor)
	if err != nil {
		return err
	}
	files := data.Rulebook()
	for i := range files {
		files[i].Text = strings.Replace(files[i].Text, sensorSource, deskSource+
			"\n"+fmt.Sprintf(sensorHeard, "http://"+sensor), 1)
	}
	if _, err := cl.PublishRulebook(ctx, api.Draft{Files: files, Message: "The phone desk and the events of " +
		"the sensor"}); err != nil {
		return err
	}
	f, err := feed.Read(data.Feed())
	if err != nil {
		return err
	}
	f.URL, f.SignIn.TokenURL = "http://"+desk+"/v1/machines", "http://"+desk+"/token"
	if _, err := cl.AddFeed(ctx, api.FeedDraft{Feed: f, Secret: a.Desk.Secret(),
		SecretUntil: time.Now().Add(40 * 24 * time.Hour).UTC().Format(time.RFC3339)}); err != nil {
		return err
	}
	a.Pages = append(a.Pages, Partner{"the phone desk, whose inventory is fetched as a feed", "http://" + desk},
		Partner{"the threat sensor, which tells of risks by Shared Signals", "http://" + sensor})
	return nil
}

// families are the phone desk's words for platforms.
var families = map[string]string{"ipados": "Pad", "ios": "Pocket", "android": "Droid", "windows": "Desk"}

// managed are the phones and tablets as the phone desk has them, and the serials of all devices.
func managed() (out []standin.Machine, serials []string) {
	for line := range strings.SplitSeq(strings.TrimSpace(data.Devices(time.Now())), "\n") {
		var r struct {
			Source   string                  `json:"source"`
			Identity struct{ Serial string } `json:"identity"`
			Evidence struct {
				Platform  string `json:"platform"`
				Form      string `json:"form"`
				Ownership string `json:"ownership"`
				Version   string `json:"os.version"`
				Encrypted *bool  `json:"storage.encrypted"`
				Code      int    `json:"passcode.length"`
			} `json:"evidence"`
		}
		if json.Unmarshal([]byte(line), &r) != nil || r.Identity.Serial == "" {
			continue
		}
		serials = append(serials, r.Identity.Serial)
		e := &r.Evidence
		if r.Source != "mdm" || e.Form != "phone" && e.Form != "tablet" {
			continue
		}
		m := standin.Machine{Ref: fmt.Sprintf("PD-%03d", len(out)+1), Disk: "sealed", Trust: "good", Code: e.Code}
		m.Hardware.Serial, m.Hardware.Kind = r.Identity.Serial, e.Form
		m.System.Family, m.System.Version = families[e.Platform], e.Version
		if e.Encrypted != nil && !*e.Encrypted {
			m.Disk = "open"
		}
		if e.Ownership != "company" {
			m.Trust = "doubtful"
		}
		out = append(out, m)
	}
	return out, serials
}

// Post is a stand-in for a mail server.
type Post struct {
	Server string // as serve --smtp takes it
	Trust  string // the file of its certificate
	Page   string // where what arrived is shown
}

// Mailbox starts a stand-in for a mail server until ctx ends.
func Mailbox(ctx context.Context, dir string) (*Post, error) {
	box, err := standin.NewMailbox()
	if err != nil {
		return nil, err
	}
	at, err := box.Serve(ctx)
	if err != nil {
		return nil, err
	}
	page, err := standin.Serve(ctx, box)
	if err != nil {
		return nil, err
	}
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	trust := filepath.Join(dir, "stand-in-mail.pem")
	return &Post{"smtp://" + at, trust, "http://" + page}, os.WriteFile(trust, box.Trust(), 0o600)
}

// signIn starts an identity provider that hears of devices.
func signIn(ctx context.Context, cl *client.Client, url string) (*standin.Provider, string, error) {
	token, err := cl.CreateToken(ctx, api.TokenDraft{Name: signInReceiver, Role: "receiver"})
	if err != nil {
		return nil, "", err
	}
	people, err := cl.ListPeople(ctx, api.ListPeopleParams{})
	if err != nil {
		return nil, "", err
	}
	var in []standin.Person
	for _, p := range people.Value.Items {
		in = append(in, standin.Person{ID: p.ID, Name: p.Name})
	}
	p := standin.NewProvider(url, token.Value.Secret, in)
	at, err := standin.Serve(ctx, p)
	if err != nil {
		return nil, "", err
	}
	return p, "http://" + at, p.Subscribe(ctx, "http://"+at)
}

// chat starts a room that a web hook tells of falls.
func chat(ctx context.Context, cl *client.Client) (*standin.Chat, string, error) {
	c := standin.NewChat()
	at, err := standin.Serve(ctx, c)
	if err != nil {
		return nil, "", err
	}
	st, err := cl.CreateStream(ctx, api.StreamDraft{Receiver: chatReceiver, Endpoint: "http://" + at + "/hook",
		Description: "The room of those who keep watch, a stand-in"})
	if err != nil {
		return nil, "", err
	}
	return c, "http://" + at, c.Secret(st.Value.Secret)
}
