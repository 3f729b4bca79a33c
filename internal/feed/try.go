package feed

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/evidence"
	core "ironledger.example/core/feed"
	"ironledger.example/core/mapping"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// errEnough ends a trial.
var errEnough = errors.New("enough was seen")

const (
	longestTrial = 18 * time.Second // somebody waits

	fewItems = 5
	maxRaw   = 16 << 10 // bytes of an item that is shown
)

// Try fetches a few items of a feed, and shows what they would become. Nothing is kept. What goes
// wrong with the partner is a part of the answer: whoever sets a feed up looks at it.
func (s *Service) Try(ctx context.Context, d api.FeedTrialDraft) (*api.FeedTrial, error) {
	if d.Items == 0 {
		d.Items = fewItems
	}
	mapped := len(d.Feed.Mapping) > 0
	if !mapped { // that comes later: what does the partner say?
		d.Feed.Mapping = bare(&d.Feed, "")
	}
	if d.Feed.Kind == core.Signals {
		return nil, fault.Input("/feed/kind", "events cannot be tried: who polls them acknowledges none by looking")
	}
	if err := s.check(&d.Feed, "/feed"); err != nil {
		return nil, err
	}
	snap := s.Snapshot()
	m, err := d.Feed.Map(snap.Book.Rulebook.Dict)
	if err != nil {
		return nil, err
	}
	secret, err := s.trialSecret(snap, &d)
	if err != nil {
		return nil, err
	}
	o := s.started()
	ctx, cancel := context.WithTimeoutCause(ctx, longestTrial, fmt.Errorf("the partner takes longer than "+
		"%s", longestTrial))
	defer cancel()
	out := &api.FeedTrial{Items: []api.FeedTrialItem{}, Places: []mapping.Place{}}
	f, err := newFetcher(&d.Feed, secret, o.Policy, o.Limits, s.Now)
	if err == nil {
		defer f.close()
		var raws [][]byte
		raws, err = f.few(ctx, o.Folders, m, mapped, d.Items, out)
		out.Places, out.Clock = append(out.Places, mapping.Places(raws, snap.Book.Rulebook.Dict)...), f.off
		for i, raw := range raws {
			item := api.FeedTrialItem{Item: i + 1, Raw: json.RawMessage(raw)}
			if len(raw) > maxRaw {
				item.Raw = "larger than is shown"
			}
			if mapped {
				s.become(snap, m, &d.Feed, raw, &item)
			}
			out.Items = append(out.Items, item)
		}
	}
	if err != nil {
		out.Failure, out.Step = err.Error(), stepItems
		var step *stepError
		if errors.As(err, &step) {
			out.Step = step.step
		}
	}
	return out, nil
}

// trialSecret is the secret of a trial: the one given, or that of a feed, which goes nowhere
// but where it goes for that feed.
func (s *Service) trialSecret(snap *state.Snapshot, d *api.FeedTrialDraft) (string, error) {
	if d.Of == "" || d.Secret != "" {
		if d.Secret == "" && d.Feed.NeedsSecret() {
			return "", fault.Inputf("/secret", "the sign-in %s needs a secret", d.Feed.SignIn.By)
		}
		return d.Secret, nil
	}
	of := snap.Feeds.Get(d.Of)
	if of == nil {
		return "", fault.NotFound("feed", d.Of)
	}
	if d.Feed.NeedsSecret() && d.Feed.Sends(&of.Settings) {
		return "", fault.Input("/secret", "the secret would go elsewhere, or in another way: give it again")
	}
	return s.secretOf(of)
}

// bare is a mapping that says where the items stand, and nothing that counts of them.
func bare(set *core.Settings, at string) json.RawMessage {
	member := "identity"
	if set.Kind == core.People {
		member = "person"
	}
	return json.RawMessage(fmt.Sprintf(`{"items": %q, %q: {"id": "id"}}`, at, member))
}

// maxHead bounds what is looked at to find where the items stand, in bytes.
const maxHead = 2 << 20

// find finds where the items of a page stand, when nobody has said it.
func (f *fetcher) find(m *mapping.Mapping, p *page, out *api.FeedTrial) *mapping.Mapping {
	if p.format != evidence.JSON {
		return m
	}
	var head bytes.Buffer
	out.ListAt = mapping.ListAt(io.TeeReader(io.LimitReader(p.body, maxHead), &head))
	p.body = io.MultiReader(&head, p.body)
	if found, err := mapping.Load(string(bare(f.settings, out.ListAt)), evidence.NewDictionary()); err == nil {
		return found
	}
	return m
}

// few fetches the first items.
func (f *fetcher) few(ctx context.Context, folders []string, m *mapping.Mapping, mapped bool, most int,
	out *api.FeedTrial) (raws [][]byte, err error) {
	visit := func(p *page) (int, error) {
		out.Status, out.Type, out.More = p.status, p.typ, p.next != ""
		if !mapped {
			m = f.find(m, p, out)
		}
		err := m.Items(p.body, p.format, func(_ int, item []byte) error {
			if len(raws) == most {
				out.More = true
				return errEnough
			}
			raws = append(raws, append([]byte{}, item...))
			return nil
		})
		if err == nil {
			err = errEnough // a page will do
		}
		return len(raws), err
	}
	if f.settings.Folder != "" {
		_, err = f.eachFile(ctx, folders, validators{}, visit)
	} else {
		err = f.each(ctx, "", validators{}, visit)
	}
	if errors.Is(err, errEnough) {
		err = nil
	}
	return raws, err
}

// become tells what an item would become.
func (s *Service) become(snap *state.Snapshot, m *mapping.Mapping, set *core.Settings, raw []byte,
	item *api.FeedTrialItem) {
	if set.Kind == core.People {
		p, err := m.Person(raw)
		if err != nil {
			item.Error = err.Error()
			return
		}
		item.Report, item.Fate = p, "somebody new"
		if old, known := snap.People.Get(p.ID); known {
			if item.Fate = "somebody who is known, and changes"; old.Equal(&p) {
				item.Fate = "somebody who is known, and stays as they are"
			}
		}
		return
	}
	report, remarks, err := m.Report(raw, "")
	for _, r := range remarks {
		item.Remarks = append(item.Remarks, evidence.Refusal(r))
	}
	if err != nil {
		item.Error = err.Error()
		return
	}
	item.Report = json.RawMessage(report)
	rep, err := snap.Book.Rulebook.Dict.ParseReport(report, s.Micros())
	if err != nil {
		item.Error = err.Error()
		return
	}
	rep.Source = set.Source
	by := snap.Book.Resolver
	j, err := by.Join(rep.Identified(), state.NewChange(snap, s.Micros()))
	switch {
	case err != nil:
		item.Error = err.Error()
	case j.Wait:
		item.Fate = "it would wait: nobody knows the device, and " + set.Source + " cannot make devices known"
	case j.Known:
		item.Device, item.Fate = j.Device, "a device that is known"
	default:
		item.Device, item.Fate = j.Device, "a new device"
	}
	item.Remarks = append(append(item.Remarks, rep.Refused...), by.RefuseUnprovided(rep)...)
}
