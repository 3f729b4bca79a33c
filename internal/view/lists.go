package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// Enrolments lists requests, the newest first: those of a state, or all for "".
func (s *Service) Enrolments(in string) ([]api.Enrolment, error) {
	if in != "" && in != state.Held && in != state.Enrolled && in != state.Refused {
		return nil, &fault.QueryError{Param: "state", Message: "a state is held, enrolled or refused"}
	}
	out := []api.Enrolment{}
	for _, e := range slices.Backward(s.Snapshot().Enrolments.List()) {
		if in == "" || e.State == in {
			out = append(out, *ShowEnrolment(&e))
		}
	}
	return out, nil
}

// ShowEnrolment is a request as people see it.
func ShowEnrolment(e *state.Enrolment) *api.Enrolment {
	shown := &api.Enrolment{ID: e.ID, At: value.FormatTime(e.At), Actor: e.Actor, Claims: e.Claims, OnRoster: e.OnRoster,
		Proven: e.Proven, State: e.State, Why: e.Why, Device: e.Device, DecidedBy: e.DecidedBy, Reason: e.Reason}
	if e.DecidedAt != 0 {
		shown.DecidedAt = value.FormatTime(e.DecidedAt)
	}
	return shown
}

// ExceptionQuery selects waivers or vouches.
type ExceptionQuery struct {
	Device string
	State  string // asked, live, ended, revoked; "" for all
	Within string // a duration: those live that end within it
}

// Waivers lists waivers, those that end first at the top.
func (s *Service) Waivers(q ExceptionQuery) ([]api.Exception, error) {
	snap, now := s.Snapshot(), s.Micros()
	var list []endingException
	for _, w := range snap.Waivers.List() {
		c := snap.Book.Limited(&w)
		shown := c.Shown(now)
		if d := snap.Fleet.Get(w.Device); d != nil && (shown.State == "live" || c.Asked()) {
			shown.Verdict = snap.Verdict(d, w.Rule, now).String()
		}
		list = append(list, endingException{shown, c.Until()})
	}
	q.Device = s.DeviceID(q.Device)
	return q.choose(list, now)
}

// Vouches lists vouches, those that end first at the top.
func (s *Service) Vouches(q ExceptionQuery) ([]api.Exception, error) {
	snap, now := s.Snapshot(), s.Micros()
	var list []endingException
	for _, v := range snap.Vouches.List() {
		list = append(list, endingException{v.Shown("", now), v.Until})
	}
	q.Device = s.DeviceID(q.Device)
	return q.choose(list, now)
}

// endingException is an exception with the moment it ends.
type endingException struct {
	api.Exception
	until int64
}

// choose leaves what is asked for, those that end first at the top.
func (q *ExceptionQuery) choose(list []endingException, now int64) ([]api.Exception, error) {
	in, until := q.State, int64(condition.Always)
	if q.Within != "" {
		d, err := value.ParseDuration(q.Within)
		if err != nil {
			return nil, &fault.QueryError{Param: "within", Message: err.Error()}
		}
		in, until = "live", now+d.Num()
	}
	if in != "" && !slices.Contains([]string{"asked", "live", "ended", "revoked"}, in) {
		return nil, &fault.QueryError{Param: "state",
			Message: fmt.Sprintf("%q is not a state; there are asked, live, ended and revoked", in)}
	}
	out := []api.Exception{}
	for _, x := range list {
		if (q.Device == "" || q.Device == x.Device) && (in == "" || in == x.State) && x.until <= until {
			out = append(out, x.Exception)
		}
	}
	slices.SortFunc(out, func(a, b api.Exception) int {
		return strings.Compare(ExceptionPlace(&a), ExceptionPlace(&b))
	})
	return out, nil
}

// ExceptionPlace is by what exceptions are in order: those that wait, those that are live, the others, each by its end.
func ExceptionPlace(x *api.Exception) string {
	place := "2 "
	switch x.State {
	case "asked":
		place = "0 "
	case "live":
		place = "1 "
	}
	return place + x.Until + " " + x.ID
}

// RosterList lists the hardware whose serial, hardware id or note a text is a part of, "" for any, or of it what no device
// was seen of.
func (s *Service) RosterList(text string, unseen bool) []api.RosterEntry {
	snap, text := s.Snapshot(), strings.ToLower(strings.TrimSpace(text))
	out := []api.RosterEntry{}
	for id, e := range snap.Roster.All() {
		if text != "" && !strings.Contains(strings.ToLower(id+"\n"+e.HardwareID+"\n"+e.Note), text) {
			continue
		}
		device := ""
		for _, k := range e.Keys() {
			if d, ok := snap.Find(k); ok {
				device = d
			}
		}
		if device == "" || !unseen {
			out = append(out, api.RosterEntry{ID: id, Serial: e.Serial, HardwareID: e.HardwareID, Note: e.Note,
				At: value.FormatTime(e.At), By: e.By, Device: device})
		}
	}
	slices.SortFunc(out, func(a, b api.RosterEntry) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// Unmatched lists the reports kept aside, the newest first: those that a person
// must settle, or all of them.
func (s *Service) Unmatched(all bool) ([]api.Unmatched, error) {
	snap := s.Snapshot()
	out := []api.Unmatched{}
	for _, u := range snap.Unmatched.List() {
		if u.State() != "open" && !all {
			continue
		}
		shown, err := shownUnmatched(snap, &u)
		if err != nil {
			return nil, err
		}
		out = append(out, *shown)
	}
	slices.SortFunc(out, func(a, b api.Unmatched) int {
		return cmp.Or(strings.Compare(b.At, a.At), strings.Compare(a.ID, b.ID))
	})
	return out, nil
}

func shownUnmatched(snap *state.Snapshot, u *state.Unmatched) (*api.Unmatched, error) {
	rep, err := u.Report(snap.Book.Rulebook.Dict)
	if err != nil {
		return nil, err
	}
	shown := api.Unmatched{ID: u.ID, At: value.FormatTime(u.At), Times: u.Times, Source: u.Source,
		ObservedAt: value.FormatTime(u.Observed), State: u.State(), Why: u.Why,
		SettledBy: u.SettledBy, Device: u.Device, Reason: u.Reason, Keys: []api.UnmatchedKey{},
		Readings: []api.KeptReading{}}
	if u.SettledAt != 0 {
		shown.SettledAt = value.FormatTime(u.SettledAt)
	}
	for _, k := range rep.Keys() {
		device, _ := snap.Find(k)
		shown.Keys = append(shown.Keys, api.UnmatchedKey{Kind: string(k.Kind), Text: k.Text, Device: device})
	}
	for _, r := range rep.Readings {
		shown.Readings = append(shown.Readings, api.KeptReading{Attribute: r.Name, Text: event.ReadingText(r)})
	}
	return &shown, nil
}
