// Package demo plays Gullholm Ferries: it fills a service with the week before today,
// puts a proxy with applications in front of it, and tells its story.
package demo

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/access"
	data "ironledger.example/demo"
	"ironledger.example/internal/client"
)

// Clock is a clock that can be put back, so that the week before the demo
// can be played in a moment.
type Clock struct{ at atomic.Pointer[time.Time] }

// Now is the moment by the clock.
func (c *Clock) Now() time.Time {
	if t := c.at.Load(); t != nil {
		return *t
	}
	return time.Now()
}

// Set puts the clock to a moment, at which it stands.
func (c *Clock) Set(t time.Time) { c.at.Store(&t) }

// Release lets the clock go with the machine's.
func (c *Clock) Release() { c.at.Store(nil) }

// Fill plays the week before the demo and loads its data through the API,
// unless they are there already.
//
// It returns the moment that the evidence of today is from.
func Fill(ctx context.Context, cl *client.Client, clock *Clock) (time.Time, error) {
	defer clock.Release()
	status, err := cl.GetStatus(ctx)
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
	clock               *Clock
	admin, author, desk *client.Client
}

// as makes a token of a role and returns a client that uses it.
func (f *filler) as(name, role string) (*client.Client, error) {
	got, err := f.admin.CreateToken(f.ctx, api.TokenDraft{Name: name, Role: role})
	if err != nil {
		return nil, err
	}
	return f.admin.As(got.Value.Secret)
}

// past plays the week before now.
func (f *filler) past(now time.Time) (err error) {
	steps := data.Past(now)
	f.clock.Set(steps[0].At)
	if f.author, err = f.as("dag.klint", "author"); err != nil {
		return err
	}
	if f.desk, err = f.as("help-desk", "helpdesk"); err != nil {
		return err
	}
	if _, err := f.author.PublishRulebook(f.ctx,
		api.Draft{Files: data.Earlier(), Message: "The house rules of Gullholm Ferries"}); err != nil {
		return err
	}
	if _, err := f.admin.ImportPeople(f.ctx, api.ImportPeopleParams{}, "text/csv",
		strings.NewReader(data.People())); err != nil {
		return err
	}
	if _, err := f.admin.ImportRoster(f.ctx, api.ImportRosterParams{}, "text/csv",
		strings.NewReader(data.Roster())); err != nil {
		return err
	}
	edge, err := f.as("edge-proxy", "enforcer")
	if err != nil {
		return err
	}
	acts := data.Acts()
	published := false
	for i, s := range steps {
		f.clock.Set(s.At)
		if err := f.reports(s.Reports); err != nil {
			return err
		}
		back := now.Sub(s.At)
		if back < data.Published && !published {
			published = true
			if _, err := f.author.PublishRulebook(f.ctx,
				api.Draft{Files: data.Rulebook(),
					Message: "Tablets need iPadOS 17.5; patching of laptops on trial"}); err != nil {
				return err
			}
		}
		for len(acts) > 0 && back < acts[0].Back {
			if err := f.act(acts[0]); err != nil {
				return err
			}
			acts = acts[1:]
		}
		for _, text := range data.Asked(i) {
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

func (f *filler) act(a data.Act) error {
	g := api.ExceptionDraft{Device: a.Device, Rule: a.Rule, Reason: a.Reason, For: a.For}
	if a.Rule == "" {
		_, err := f.desk.CreateVouch(f.ctx, g)
		return err
	}
	got, err := f.desk.CreateWaiver(f.ctx, g)
	if err == nil && a.Revoked != "" {
		_, err = f.desk.RevokeWaiver(f.ctx, got.Value.ID, api.Reason{Reason: a.Revoked})
	}
	return err
}

func (f *filler) reports(ndjson string) error {
	got, err := f.admin.PostEvidence(f.ctx, api.PostEvidenceParams{}, "application/x-ndjson", strings.NewReader(ndjson))
	if err == nil && got.Value.Rejected > 0 {
		err = fmt.Errorf("%d reports of the demo were refused", got.Value.Rejected)
	}
	return err
}

// orders are what people said of devices: words, and that one is out of service.
func (f *filler) orders() error {
	for _, m := range data.Marks() {
		draft := api.TagsDraft{Devices: m.Devices, Add: []string{m.Tag}}
		if m.Note != "" {
			draft.Note = &m.Note
		}
		if _, err := f.desk.TagDevices(f.ctx, draft); err != nil {
			return err
		}
	}
	if err := f.reports(data.Worn); err != nil {
		return err
	}
	_, err := f.admin.RetireDevice(f.ctx, "GF-K-0917", api.Reason{Reason: data.Given})
	return err
}

// present brings what is true today.
func (f *filler) present(at time.Time) error {
	f.clock.Release()
	if err := f.reports(data.Devices(at)); err != nil {
		return err
	}
	if _, err := f.admin.PostEvidence(f.ctx, api.PostEvidenceParams{}, "application/x-ndjson",
		strings.NewReader(data.Stray(time.Now()))); err != nil {
		return err
	}
	if err := f.orders(); err != nil {
		return err
	}
	for _, x := range data.Applicants() {
		if _, err := f.admin.EnrolDevice(f.ctx, api.Claims{Serial: x.Serial, Platform: x.Platform, Form: x.Form,
			Name: x.Name, Ownership: x.Ownership, Owner: x.Owner}); err != nil {
			return err
		}
	}
	for _, q := range data.Searches() {
		if _, err := f.desk.KeepSearch(f.ctx,
			api.SearchDraft{Name: q.Name, Where: q.Where, Columns: q.Columns}); err != nil {
			return err
		}
	}
	lines := bufio.NewScanner(strings.NewReader(data.Requests()))
	for lines.Scan() {
		if err := evaluate(f.ctx, f.admin, lines.Text()); err != nil {
			return err
		}
	}
	return lines.Err()
}
