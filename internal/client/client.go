// Package client calls the HTTP API for the command line.
package client

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"ironledger.example/api"
)

// Client calls one service with one token.
type Client struct {
	raw *api.Client
	url string
}

// transport bounds how long an answer may take to begin, not how long it is: an
// export of a large ledger takes its time.
var transport = func() http.RoundTripper {
	t := http.DefaultTransport.(*http.Transport).Clone()
	t.ResponseHeaderTimeout = 10 * time.Minute
	return t
}()

// New returns a client for the service at base.
// language is what the caller reads (BCP 47); "" for no preference.
func New(base, token, language string) (*Client, error) {
	u, err := url.Parse(base)
	if err != nil || u.Host == "" || u.Scheme != "http" && u.Scheme != "https" {
		return nil, fmt.Errorf("%q is not the URL of a service; http://127.0.0.1:8600 would be one", base)
	}
	raw, err := api.NewClient(base, api.WithHTTPClient(&http.Client{Transport: transport}),
		api.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			if token != "" {
				r.Header.Set("Authorization", "Bearer "+token)
			}
			if language != "" {
				r.Header.Set("Accept-Language", language)
			}
			return nil
		}))
	return &Client{raw, base}, err
}

// As returns a client for the same service with another token.
func (c *Client) As(token string) (*Client, error) { return New(c.url, token, "") }

// Reply is an answer, typed and as it came.
type Reply[T any] struct {
	Value T
	Raw   json.RawMessage
}

// Problem is an answer that tells what went wrong (RFC 9457).
type Problem struct{ api.Problem }

func (p *Problem) Error() string {
	s := p.Detail
	if p.Pointer != "" {
		s = p.Pointer + ": " + s
	}
	if p.Excerpt != "" {
		s += "\n" + p.Excerpt
	}
	if len(p.Impacts) > 0 {
		s = p.Title + "; nothing has changed"
		for _, x := range p.Impacts {
			s += "\n  " + x.Message
		}
	}
	return s
}

func call[T any](base string, r *http.Response, err error) (*Reply[T], error) {
	if err != nil {
		var broken *url.Error
		if errors.As(err, &broken) {
			err = broken.Err
		}
		return nil, fmt.Errorf("no service answers at %s: %w", base, err)
	}
	defer r.Body.Close()
	body, err := io.ReadAll(r.Body)
	if err != nil {
		return nil, fmt.Errorf("the answer of %s broke off: %w", base, err)
	}
	if r.StatusCode >= 300 {
		var p Problem
		if json.Unmarshal(body, &p.Problem) != nil || p.Detail == "" {
			return nil, fmt.Errorf("%s answered %s", base, r.Status)
		}
		return nil, &p
	}
	out := &Reply[T]{Raw: body}
	if r.StatusCode == http.StatusNoContent {
		return out, nil
	}
	if err := json.Unmarshal(body, &out.Value); err != nil {
		return nil, fmt.Errorf("the answer of %s is not understood: %w", base, err)
	}
	return out, nil
}

// Status shows the service at a glance.
func (c *Client) Status(ctx context.Context) (*Reply[api.Status], error) {
	r, err := c.raw.GetStatus(ctx)
	return call[api.Status](c.url, r, err)
}

// Vocabulary lists what conditions may speak of.
func (c *Client) Vocabulary(ctx context.Context) (*Reply[api.Vocabulary], error) {
	r, err := c.raw.GetVocabulary(ctx)
	return call[api.Vocabulary](c.url, r, err)
}

// PostEvidence brings a stream of reports of a media type.
func (c *Client) PostEvidence(ctx context.Context, media string, body io.Reader) (*Reply[api.Intake], error) {
	r, err := c.raw.PostEvidenceWithBody(ctx, media, body)
	return call[api.Intake](c.url, r, err)
}

// Devices lists a page of devices.
func (c *Client) Devices(ctx context.Context, p api.ListDevicesParams) (*Reply[List[api.DeviceSummary]], error) {
	r, err := c.raw.ListDevices(ctx, &p)
	return call[List[api.DeviceSummary]](c.url, r, err)
}

// Device shows a device.
func (c *Client) Device(ctx context.Context, id string) (*Reply[api.Device], error) {
	r, err := c.raw.GetDevice(ctx, id)
	return call[api.Device](c.url, r, err)
}

// List is a list, or a page of one.
type List[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next"`  // the cursor of the next page; "" when there is none
	Total int    `json:"total"` // how many there are on all pages, where the service says
}

// Rulebooks lists the published versions.
func (c *Client) Rulebooks(ctx context.Context) (*Reply[List[api.RulebookInfo]], error) {
	r, err := c.raw.ListRulebooks(ctx)
	return call[List[api.RulebookInfo]](c.url, r, err)
}

// Rulebook reads a version, or "current".
func (c *Client) Rulebook(ctx context.Context, version string) (*Reply[api.RulebookInfo], error) {
	r, err := c.raw.GetRulebook(ctx, version)
	return call[api.RulebookInfo](c.url, r, err)
}

// Publish puts a rulebook in force.
func (c *Client) Publish(ctx context.Context, d api.Draft) (*Reply[api.Publication], error) {
	r, err := c.raw.PublishRulebook(ctx, d)
	return call[api.Publication](c.url, r, err)
}

// People lists the directory.
func (c *Client) People(ctx context.Context, p api.ListPeopleParams) (*Reply[List[api.Person]], error) {
	r, err := c.raw.ListPeople(ctx, &p)
	return call[List[api.Person]](c.url, r, err)
}

// ImportPeople adds people to the directory, or takes a list for the whole of it.
func (c *Client) ImportPeople(ctx context.Context, media string, body io.Reader,
	p api.ImportPeopleParams) (*Reply[api.PeopleIntake], error) {
	r, err := c.raw.ImportPeopleWithBody(ctx, &p, media, body)
	return call[api.PeopleIntake](c.url, r, err)
}

// Person tells of one person and their devices.
func (c *Client) Person(ctx context.Context, id string) (*Reply[api.PersonPage], error) {
	r, err := c.raw.GetPerson(ctx, id)
	return call[api.PersonPage](c.url, r, err)
}

// RemovePerson takes a person out of the directory.
func (c *Client) RemovePerson(ctx context.Context, id string, how api.Removal) (*Reply[api.PeopleIntake], error) {
	r, err := c.raw.RemovePerson(ctx, id, how)
	return call[api.PeopleIntake](c.url, r, err)
}

// Ask tries a request.
func (c *Client) Ask(ctx context.Context, e api.Evaluation) (*Reply[api.Answer], error) {
	r, err := c.raw.Ask(ctx, e)
	return call[api.Answer](c.url, r, err)
}

// Evaluate asks for a decision that counts.
func (c *Client) Evaluate(ctx context.Context, e api.Evaluation) (*Reply[api.EvaluationResponse], error) {
	r, err := c.raw.Evaluate(ctx, e)
	return call[api.EvaluationResponse](c.url, r, err)
}

// Decisions lists a page of recorded decisions.
func (c *Client) Decisions(ctx context.Context, p api.ListDecisionsParams) (*Reply[List[api.Answer]], error) {
	r, err := c.raw.ListDecisions(ctx, &p)
	return call[List[api.Answer]](c.url, r, err)
}

// Decision shows a recorded decision.
func (c *Client) Decision(ctx context.Context, id string) (*Reply[api.Answer], error) {
	r, err := c.raw.GetDecision(ctx, id)
	return call[api.Answer](c.url, r, err)
}

// Tokens lists tokens.
func (c *Client) Tokens(ctx context.Context) (*Reply[List[api.Token]], error) {
	r, err := c.raw.ListTokens(ctx)
	return call[List[api.Token]](c.url, r, err)
}

// CreateToken makes a token.
func (c *Client) CreateToken(ctx context.Context, name, role string) (*Reply[api.NewToken], error) {
	r, err := c.raw.CreateToken(ctx, api.CreateTokenJSONRequestBody{Name: name, Role: role})
	return call[api.NewToken](c.url, r, err)
}

// RevokeToken revokes a token.
func (c *Client) RevokeToken(ctx context.Context, id string) (*Reply[api.Token], error) {
	r, err := c.raw.RevokeToken(ctx, id)
	return call[api.Token](c.url, r, err)
}

// Overview shows the fleet at a glance.
func (c *Client) Overview(ctx context.Context, p api.GetOverviewParams) (*Reply[api.Overview], error) {
	r, err := c.raw.GetOverview(ctx, &p)
	return call[api.Overview](c.url, r, err)
}

// History lists what became of a device.
func (c *Client) History(ctx context.Context, id string,
	p api.GetDeviceHistoryParams) (*Reply[List[api.Event]], error) {
	r, err := c.raw.GetDeviceHistory(ctx, id, &p)
	return call[List[api.Event]](c.url, r, err)
}

// Certificates lists a page of the certificates of the fleet.
func (c *Client) Certificates(ctx context.Context,
	p api.ListCertificatesParams) (*Reply[List[api.Certificate]], error) {
	r, err := c.raw.ListCertificates(ctx, &p)
	return call[List[api.Certificate]](c.url, r, err)
}

// Sources lists who supplies evidence.
func (c *Client) Sources(ctx context.Context) (*Reply[List[api.Source]], error) {
	r, err := c.raw.ListSources(ctx)
	return call[List[api.Source]](c.url, r, err)
}

// Unmatched lists the reports that wait for a person.
func (c *Client) Unmatched(ctx context.Context, all bool) (*Reply[List[api.Unmatched]], error) {
	r, err := c.raw.ListUnmatched(ctx, &api.ListUnmatchedParams{All: all})
	return call[List[api.Unmatched]](c.url, r, err)
}

// Settle says whose an unmatched report is.
func (c *Client) Settle(ctx context.Context, id string,
	how api.SettleUnmatchedJSONRequestBody) (*Reply[api.Taken], error) {
	r, err := c.raw.SettleUnmatched(ctx, id, how)
	return call[api.Taken](c.url, r, err)
}

// Waivers lists waivers.
func (c *Client) Waivers(ctx context.Context, p api.ListWaiversParams) (*Reply[List[api.Grant]], error) {
	r, err := c.raw.ListWaivers(ctx, &p)
	return call[List[api.Grant]](c.url, r, err)
}

// Waive makes an exception for one device and one rule.
func (c *Client) Waive(ctx context.Context, g api.GrantDraft) (*Reply[api.Grant], error) {
	r, err := c.raw.CreateWaiver(ctx, g)
	return call[api.Grant](c.url, r, err)
}

// RevokeWaiver ends a waiver.
func (c *Client) RevokeWaiver(ctx context.Context, id, reason string) (*Reply[api.Grant], error) {
	r, err := c.raw.RevokeWaiver(ctx, id, api.Reason{Reason: reason})
	return call[api.Grant](c.url, r, err)
}

// Vouches lists vouches.
func (c *Client) Vouches(ctx context.Context, p api.ListVouchesParams) (*Reply[List[api.Grant]], error) {
	r, err := c.raw.ListVouches(ctx, &p)
	return call[List[api.Grant]](c.url, r, err)
}

// Vouch states that a device is genuine.
func (c *Client) Vouch(ctx context.Context, g api.GrantDraft) (*Reply[api.Grant], error) {
	r, err := c.raw.CreateVouch(ctx, g)
	return call[api.Grant](c.url, r, err)
}

// RevokeVouch ends a vouch.
func (c *Client) RevokeVouch(ctx context.Context, id, reason string) (*Reply[api.Grant], error) {
	r, err := c.raw.RevokeVouch(ctx, id, api.Reason{Reason: reason})
	return call[api.Grant](c.url, r, err)
}

// Roster lists the hardware registered in advance.
func (c *Client) Roster(ctx context.Context, q string) (*Reply[List[api.RosterEntry]], error) {
	r, err := c.raw.ListRoster(ctx, &api.ListRosterParams{Q: q})
	return call[List[api.RosterEntry]](c.url, r, err)
}

// ImportRoster adds hardware to the roster from CSV.
func (c *Client) ImportRoster(ctx context.Context, body io.Reader,
	p api.ImportRosterParams) (*Reply[api.PeopleIntake], error) {
	r, err := c.raw.ImportRosterWithBody(ctx, &p, "text/csv", body)
	return call[api.PeopleIntake](c.url, r, err)
}

// RemoveRoster takes an entry off the roster.
func (c *Client) RemoveRoster(ctx context.Context, id string, how api.Removal) (*Reply[api.PeopleIntake], error) {
	r, err := c.raw.RemoveRoster(ctx, id, how)
	return call[api.PeopleIntake](c.url, r, err)
}

// Check finds what is wrong with a rulebook, and what is likely not meant.
func (c *Client) Check(ctx context.Context, d api.Draft) (*Reply[api.Check], error) {
	r, err := c.raw.CheckRulebook(ctx, d)
	return call[api.Check](c.url, r, err)
}

// Rehearse works out what a rulebook would do to the fleet.
func (c *Client) Rehearse(ctx context.Context, d api.Draft) (*Reply[api.Shift], error) {
	r, err := c.raw.RehearseRulebook(ctx, d)
	return call[api.Shift](c.url, r, err)
}

// RehearseDevice tells how a device would stand under a rulebook.
func (c *Client) RehearseDevice(ctx context.Context, id string, d api.Draft) (*Reply[api.Device], error) {
	r, err := c.raw.RehearseDevice(ctx, id, d)
	return call[api.Device](c.url, r, err)
}

// KeepSearch keeps a search of devices.
func (c *Client) KeepSearch(ctx context.Context, q api.SearchDraft) (*Reply[api.Search], error) {
	r, err := c.raw.KeepSearch(ctx, q)
	return call[api.Search](c.url, r, err)
}

// Searches lists the searches that are kept.
func (c *Client) Searches(ctx context.Context) (*Reply[List[api.Search]], error) {
	r, err := c.raw.ListSearches(ctx)
	return call[List[api.Search]](c.url, r, err)
}

// DropSearch forgets a search.
func (c *Client) DropSearch(ctx context.Context, name string) error {
	r, err := c.raw.DropSearch(ctx, name)
	_, err = call[struct{}](c.url, r, err)
	return err
}

// Shadow tells what enforcing the shadow baselines would do.
func (c *Client) Shadow(ctx context.Context) (*Reply[api.Shift], error) {
	r, err := c.raw.GetShadow(ctx)
	return call[api.Shift](c.url, r, err)
}

// AskUnder tries a request under a candidate rulebook or at another moment.
func (c *Client) AskUnder(ctx context.Context, d api.AskDraft) (*Reply[api.Answer], error) {
	r, err := c.raw.AskUnder(ctx, d)
	return call[api.Answer](c.url, r, err)
}

// WhoReaches tells who can get to a resource.
func (c *Client) WhoReaches(ctx context.Context, e api.Evaluation) (*Reply[api.Reach], error) {
	r, err := c.raw.WhoReaches(ctx, e)
	return call[api.Reach](c.url, r, err)
}

// WhatReaches tells what a person can get to.
func (c *Client) WhatReaches(ctx context.Context, e api.Evaluation) (*Reply[List[api.ReachResource]], error) {
	r, err := c.raw.WhatReaches(ctx, e)
	return call[List[api.ReachResource]](c.url, r, err)
}

// Coverage tells what it takes for each group to reach each resource.
func (c *Client) Coverage(ctx context.Context) (*Reply[api.Coverage], error) {
	r, err := c.raw.GetCoverage(ctx, &api.GetCoverageParams{})
	return call[api.Coverage](c.url, r, err)
}

// Gates lists the gates with what the last week brought.
func (c *Client) Gates(ctx context.Context) (*Reply[List[api.Gate]], error) {
	r, err := c.raw.ListGates(ctx)
	return call[List[api.Gate]](c.url, r, err)
}

// LiveSessions lists the allows that may still be relied on.
func (c *Client) LiveSessions(ctx context.Context,
	p api.ListLiveSessionsParams) (*Reply[List[api.LiveSession]], error) {
	r, err := c.raw.ListLiveSessions(ctx, &p)
	return call[List[api.LiveSession]](c.url, r, err)
}

// Replay works out what a rulebook would answer to the requests of the last days.
func (c *Client) Replay(ctx context.Context, d api.Draft, days int) (*Reply[api.AccessShift], error) {
	r, err := c.raw.ReplayRulebook(ctx, &api.ReplayRulebookParams{Days: days}, d)
	return call[api.AccessShift](c.url, r, err)
}

// Enrol asks for a device to be known.
func (c *Client) Enrol(ctx context.Context, claims api.Claims) (*Reply[api.Enrolment], error) {
	r, err := c.raw.EnrolDevice(ctx, claims)
	return call[api.Enrolment](c.url, r, err)
}

// Enrolments lists devices that asked to be known.
func (c *Client) Enrolments(ctx context.Context, state string) (*Reply[List[api.Enrolment]], error) {
	r, err := c.raw.ListEnrolments(ctx, &api.ListEnrolmentsParams{State: state})
	return call[List[api.Enrolment]](c.url, r, err)
}

// SettleEnrolment decides about a device that is held.
func (c *Client) SettleEnrolment(ctx context.Context, id string, admit bool,
	reason string) (*Reply[api.Enrolment], error) {
	r, err := c.raw.SettleEnrolment(ctx, id, api.SettleEnrolmentJSONRequestBody{Admit: admit, Reason: reason})
	return call[api.Enrolment](c.url, r, err)
}

// Retire takes a device out of service.
func (c *Client) Retire(ctx context.Context, device, reason string) (*Reply[api.Retirement], error) {
	r, err := c.raw.RetireDevice(ctx, device, api.RetireDeviceJSONRequestBody{Reason: reason})
	return call[api.Retirement](c.url, r, err)
}

// URL is where the service is.
func (c *Client) URL() string { return c.url }
