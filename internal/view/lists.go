package view

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/state"
)

// Enrolments lists requests, the newest first: those of a state, or all for "".
func (s *Service) Enrolments(in string) ([]state.PublicEnrolment, error) {
	if in != "" && in != state.Held && in != state.Enrolled && in != state.Refused {
		return nil, &fault.QueryError{Param: "state", Message: "a state is held, enrolled or refused"}
	}
	out := []state.PublicEnrolment{}
	for _, e := range slices.Backward(s.Snapshot().Enrolments.List()) {
		if in == "" || e.State == in {
			out = append(out, state.MakePublic(e))
		}
	}
	return out, nil
}

// ExceptionQuery selects waivers or vouches.
type ExceptionQuery struct {
	Device string
	State  string // live, ended, revoked; "" for all
	Within string // a duration: those live that end within it
}

// Waivers lists waivers, those that end first at the top.
func (s *Service) Waivers(q ExceptionQuery) ([]state.ShownException, error) {
	snap, now := s.Snapshot(), s.Micros()
	var list []endingException
	for _, w := range snap.Waivers.List() {
		w := snap.Book.Limited(&w)
		shown := w.Shown(w.Rule, now)
		if d := snap.Fleet.Get(w.Device); w.Live(now) && d != nil {
			shown.Verdict = posture.None.String()
			if i := slices.Index(snap.Book.RuleKeys, w.Rule); i >= 0 {
				shown.Verdict = snap.At(d, now).Result.Verdicts[i].String()
			}
		}
		list = append(list, endingException{shown, w.Until})
	}
	return q.choose(list, now)
}

// Vouches lists vouches, those that end first at the top.
func (s *Service) Vouches(q ExceptionQuery) ([]state.ShownException, error) {
	snap, now := s.Snapshot(), s.Micros()
	var list []endingException
	for _, v := range snap.Vouches.List() {
		list = append(list, endingException{v.Shown("", now), v.Until})
	}
	return q.choose(list, now)
}

// endingException is an exception with the moment it ends.
type endingException struct {
	state.ShownException
	until int64
}

// choose leaves what is asked for, those that end first at the top.
func (q *ExceptionQuery) choose(list []endingException, now int64) ([]state.ShownException, error) {
	in, until := q.State, int64(condition.Always)
	if q.Within != "" {
		d, err := value.ParseDuration(q.Within)
		if err != nil {
			return nil, &fault.QueryError{Param: "within", Message: err.Error()}
		}
		in, until = "live", now+d.Num()
	}
	if in != "" && !slices.Contains([]string{"live", "ended", "revoked"}, in) {
		return nil, &fault.QueryError{Param: "state",
			Message: fmt.Sprintf("%q is not a state; there are live, ended and revoked", in)}
	}
	out := []state.ShownException{}
	for _, x := range list {
		if (q.Device == "" || q.Device == x.Device) && (in == "" || in == x.State) && x.until <= until {
			out = append(out, x.ShownException)
		}
	}
	place := map[string]int{"live": 0, "revoked": 1, "ended": 1}
	slices.SortFunc(out, func(a, b state.ShownException) int {
		return cmp.Or(cmp.Compare(place[a.State], place[b.State]), strings.Compare(a.Until, b.Until),
			strings.Compare(a.ID, b.ID))
	})
	return out, nil
}

// RosterEntry is an entry of the roster with the device it turned out to be.
type RosterEntry struct {
	ID         string `json:"id"`
	Serial     string `json:"serial,omitempty"`
	HardwareID string `json:"hardware_id,omitempty"`
	Note       string `json:"note,omitempty"`
	At         string `json:"at"`
	By         string `json:"by"`
	Device     string `json:"device,omitempty"`
}

// RosterList lists the entries that hold a text, by id.
func (s *Service) RosterList(text string) []RosterEntry {
	snap, text := s.Snapshot(), strings.ToLower(strings.TrimSpace(text))
	out := []RosterEntry{}
	for id, e := range snap.Roster.All() {
		if !strings.Contains(strings.ToLower(id+"\n"+e.HardwareID+"\n"+e.Note), text) {
			continue
		}
		shown := RosterEntry{ID: id, Serial: e.Serial, HardwareID: e.HardwareID, Note: e.Note,
			At: value.FormatTime(e.At), By: e.By}
		for _, k := range e.Keys() {
			if d, ok := snap.Find(k); ok {
				shown.Device = d
			}
		}
		out = append(out, shown)
	}
	slices.SortFunc(out, func(a, b RosterEntry) int { return strings.Compare(a.ID, b.ID) })
	return out
}

// Unmatched is an unmatched report as people see it.
type Unmatched struct {
	ID         string         `json:"id"`
	At         string         `json:"at"`
	Times      int            `json:"times"`
	Source     string         `json:"source"`
	ObservedAt string         `json:"observed_at"`
	State      string         `json:"state"` // open, waiting, joined or discarded
	Why        string         `json:"why,omitempty"`
	Keys       []UnmatchedKey `json:"keys"`
	Readings   []KeptReading  `json:"readings"`
	SettledAt  string         `json:"settled_at,omitempty"`
	SettledBy  string         `json:"settled_by,omitempty"`
	Device     string         `json:"device,omitempty"`
	Reason     string         `json:"reason,omitempty"`
}

// UnmatchedKey is a key of an unmatched report and the device it points at now.
type UnmatchedKey struct {
	Kind   evidence.KeyKind `json:"kind"`
	Text   string           `json:"text"`
	Device string           `json:"device,omitempty"`
}

// KeptReading is a reading in a few words.
type KeptReading struct {
	Attribute string `json:"attribute"`
	Text      string `json:"text"`
}

// Unmatched lists the reports kept aside, the newest first: those that a person
// must settle, or all of them.
func (s *Service) Unmatched(all bool) ([]Unmatched, error) {
	snap := s.Snapshot()
	out := []Unmatched{}
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
	slices.SortFunc(out, func(a, b Unmatched) int {
		return cmp.Or(strings.Compare(b.At, a.At), strings.Compare(a.ID, b.ID))
	})
	return out, nil
}

func shownUnmatched(snap *state.Snapshot, u *state.Unmatched) (*Unmatched, error) {
	rep, err := u.Report(snap.Book)
	if err != nil {
		return nil, err
	}
	shown := Unmatched{ID: u.ID, At: value.FormatTime(u.At), Times: u.Times, Source: u.Source,
		ObservedAt: value.FormatTime(u.Observed), State: u.State(), Why: u.Why,
		SettledBy: u.SettledBy, Device: u.Device, Reason: u.Reason, Keys: []UnmatchedKey{},
		Readings: []KeptReading{}}
	if u.SettledAt != 0 {
		shown.SettledAt = value.FormatTime(u.SettledAt)
	}
	for _, k := range rep.Keys() {
		device, _ := snap.Find(k)
		shown.Keys = append(shown.Keys, UnmatchedKey{k.Kind, k.Text, device})
	}
	for _, r := range rep.Readings {
		shown.Readings = append(shown.Readings, KeptReading{r.Name, state.ReadingText(r)})
	}
	return &shown, nil
}
