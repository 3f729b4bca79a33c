package service

import (
	"cmp"
	"context"
	"fmt"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
)

// Exception is a dated, reasoned statement by somebody about one device.
type Exception struct {
	ID        string `json:"id"`
	Device    string `json:"device"`
	Reason    string `json:"reason"`
	Author    string `json:"author"`
	At        int64  `json:"at"`    // microseconds since the Unix epoch, as every time here
	Until     int64  `json:"until"` // the moment it ends
	RevokedAt int64  `json:"revoked_at,omitempty"`
	RevokedBy string `json:"revoked_by,omitempty"`
	Revoked   string `json:"revoked,omitempty"` // why
}

func (g *Exception) live(now int64) bool { return g.RevokedAt == 0 && now < g.Until }

// state names where an exception stands at now.
func (g *Exception) state(now int64) string {
	switch {
	case g.RevokedAt != 0:
		return "revoked"
	case now >= g.Until:
		return "ended"
	}
	return "live"
}

// Waiver is an exception for one device and one rule.
type Waiver struct {
	Exception
	Rule string `json:"rule"` // baseline/rule
}

// Vouch is a statement that a device is genuine.
type Vouch struct{ Exception }

// exceptions are the grants by device, oldest first.
type exceptions struct {
	waivers map[string][]*Waiver
	vouches map[string][]*Vouch
	retired map[string]*Retirement
}

// exceptions puts what was kept of devices by their ids.
func (snap *Snapshot) exceptions() exceptions {
	out := exceptions{map[string][]*Waiver{}, map[string][]*Vouch{}, map[string]*Retirement{}}
	for _, w := range snap.waivers.list() {
		out.waivers[w.Device] = append(out.waivers[w.Device], &w)
	}
	for _, v := range snap.vouches.list() {
		out.vouches[v.Device] = append(out.vouches[v.Device], &v)
	}
	for _, r := range snap.retired.list() {
		out.retired[r.Device] = &r
	}
	return out
}

// waived lays out, in the order of the book's rules, until when each is waived
// at now; nil when none is.
func (b *Book) waived(waivers []*Waiver, now int64) []int64 {
	var out []int64
	for _, w := range waivers {
		w := b.limited(w)
		if i := slices.Index(b.ruleKeys, w.Rule); w.live(now) && i >= 0 && !b.strict[w.Rule] {
			if out == nil {
				out = make([]int64, len(b.ruleKeys))
			}
			out[i] = max(out[i], w.Until)
		}
	}
	return out
}

// limited is a waiver as far as the rulebook lets it live: a limit that was
// lowered since holds for it too.
func (b *Book) limited(w *Waiver) *Waiver {
	if limit := b.Rulebook.MaxWaiver; w.Until-w.At > limit {
		short := *w
		short.Until = w.At + limit
		return &short
	}
	return w
}

// InputError says what is wrong with what somebody asked for.
type InputError struct{ Pointer, Message string }

func (e *InputError) Error() string { return e.Message }

// NotFoundError says that there is nothing of that name.
type NotFoundError struct{ What, ID string }

func (e *NotFoundError) Error() string { return fmt.Sprintf("there is no %s %s", e.What, e.ID) }

// ExceptionRequest asks for a waiver or a vouch.
type ExceptionRequest struct {
	Device string `json:"device"`
	Rule   string `json:"rule,omitempty"` // of a waiver
	Reason string `json:"reason"`
	// One of the two says when it ends.
	For   string `json:"for,omitempty"`   // a duration, as 14d
	Until string `json:"until,omitempty"` // RFC 3339
}

// maxReason bounds a reason, in bytes.
const maxReason = 1000

// checkReason trims the reason of an act, and refuses one that says nothing.
func checkReason(reason *string) error {
	if *reason = strings.TrimSpace(*reason); *reason == "" || len(*reason) > maxReason {
		return &InputError{"/reason", fmt.Sprintf("a reason is needed, of at most %d bytes", maxReason)}
	}
	return nil
}

func (g *ExceptionRequest) check(now, longest int64) (until int64, err error) {
	g.Reason = strings.TrimSpace(g.Reason)
	switch {
	case g.Reason == "":
		return 0, &InputError{"/reason", "a reason is needed: it is what people read when they ask why"}
	case len(g.Reason) > maxReason:
		return 0, &InputError{"/reason", fmt.Sprintf("the reason is longer than %d bytes", maxReason)}
	case (g.For == "") == (g.Until == ""):
		return 0, &InputError{"/until", "say when it ends: for (as 14d) or until (RFC 3339), and not both"}
	case g.For != "":
		d, err := value.ParseDuration(g.For)
		if err != nil {
			return 0, &InputError{"/for", err.Error()}
		}
		until = now + d.Num()
		if d.Num() <= 0 || until < now {
			return 0, &InputError{"/for", g.For + " does not lie in the future"}
		}
	default:
		t, err := value.ParseTime(g.Until)
		if err != nil {
			return 0, &InputError{"/until", err.Error()}
		}
		if until = t.Num(); until <= now {
			return 0, &InputError{"/until", g.Until + " does not lie in the future"}
		}
	}
	if longest > 0 && until-now > longest {
		pointer := "/until"
		if g.For != "" {
			pointer = "/for"
		}
		return 0, &InputError{pointer,
			fmt.Sprintf("it would live for %s; the rulebook allows %s", value.FormatAge(until-now),
				value.FormatDuration(longest))}
	}
	return until, nil
}

// Waive makes an exception for one device and one rule. It takes effect before
// Waive returns.
func (s *Service) Waive(ctx context.Context, actor string, g ExceptionRequest) (*ShownException, error) {
	var w *Waiver
	err := s.do(ctx, func(c *change) error {
		book := c.base.Book
		until, err := g.check(c.now, book.Rulebook.MaxWaiver)
		if err != nil {
			return err
		}
		if !slices.Contains(book.ruleKeys, g.Rule) {
			return &InputError{"/rule", fmt.Sprintf("%q is not a rule of the rulebook in force, as baseline/rule%s", g.Rule, nearest(g.Rule, book.ruleKeys))}
		}
		if book.strict[g.Rule] {
			return &InputError{"/rule", fmt.Sprintf("the rulebook lets nobody except a device from %s (waivable: false)", g.Rule)}
		}
		d, err := c.touch(g.Device)
		if err != nil {
			return err
		}
		w = &Waiver{Exception{ID: "w-" + s.ids.next(c.now), Device: d.ID, Reason: g.Reason, Author: actor,
			At: c.now, Until: until}, g.Rule}
		if err := put(c, waiverKind, w.ID, w); err != nil {
			return err
		}
		d.Waivers = append(slices.Clip(d.Waivers), w)
		c.record(actor, &event.WaiverGranted{Exception: c.base.shownWaiver(w, c.now)})
		c.reappraise(d, cause{kind: event.ByWaiver, actor: actor})
		return nil
	})
	if err != nil {
		return nil, err
	}
	shown := s.Snapshot().shownWaiver(w, s.micros())
	return &shown, nil
}

// Vouch states that a device is genuine.
func (s *Service) Vouch(ctx context.Context, actor string, g ExceptionRequest) (*ShownException, error) {
	var v *Vouch
	err := s.do(ctx, func(c *change) error {
		until, err := g.check(c.now, 0)
		if err != nil {
			return err
		}
		if g.Rule != "" {
			return &InputError{"/rule", "a vouch is for a device, not for a rule"}
		}
		d, err := c.touch(g.Device)
		if err != nil {
			return err
		}
		v = &Vouch{Exception{ID: "v-" + s.ids.next(c.now), Device: d.ID, Reason: g.Reason, Author: actor,
			At: c.now, Until: until}}
		if err := put(c, vouchKind, v.ID, v); err != nil {
			return err
		}
		d.Vouches = append(slices.Clip(d.Vouches), v)
		c.record(actor, &event.VouchGiven{Exception: v.shown("", c.now)})
		c.reappraise(d, cause{kind: event.ByVouch, actor: actor})
		return nil
	})
	if err != nil {
		return nil, err
	}
	shown := v.shown("", s.micros())
	return &shown, nil
}

// touch copies a device, named by id, serial or hardware id, for changing it.
func (c *change) touch(name string) (*Device, error) {
	if name == "" {
		return nil, &InputError{"/device", "say which device: its id, serial or hardware id"}
	}
	if d := c.device(c.resolve(name)); d != nil {
		e := d.copied()
		e.View = nil
		return e, nil
	}
	return nil, &NotFoundError{"device", name}
}

// reappraise appraises a changed device, which stood as the change has it.
func (c *change) reappraise(d *Device, by cause) {
	book := c.base.Book
	was := stood(book, c.device(d.ID))
	c.appraise(c.base, d, was, by)
	c.keep(book, d, was)
}

// Revoke ends a waiver or a vouch before its time, and takes effect at once.
func (s *Service) Revoke(ctx context.Context, actor, id, reason string) (*ShownException, error) {
	if err := checkReason(&reason); err != nil {
		return nil, err
	}
	var out ShownException
	err := s.do(ctx, func(c *change) (err error) {
		if w := get(c, waiverKind, id); w != nil {
			out, err = c.revokeWaiver(actor, *w, reason)
			return err
		}
		if v := get(c, vouchKind, id); v != nil {
			out, err = c.revokeVouch(actor, *v, reason)
			return err
		}
		return &NotFoundError{"waiver or vouch", id}
	})
	return &out, err
}

// end makes an exception one that was revoked.
func (g *Exception) end(actor, reason string, now int64) error {
	if !g.live(now) {
		return &InputError{"", fmt.Sprintf("%s is %s already", g.ID, g.state(now))}
	}
	g.RevokedAt, g.RevokedBy, g.Revoked = now, actor, reason
	return nil
}

func (c *change) revokeWaiver(actor string, w Waiver, reason string) (out ShownException, err error) {
	if err := w.end(actor, reason, c.now); err != nil {
		return out, err
	}
	d, err := c.touch(w.Device)
	if err != nil {
		return out, err
	}
	if err := put(c, waiverKind, w.ID, &w); err != nil {
		return out, err
	}
	d.Waivers = slices.Clone(d.Waivers)
	d.Waivers[slices.IndexFunc(d.Waivers, func(x *Waiver) bool { return x.ID == w.ID })] = &w
	out = c.base.shownWaiver(&w, c.now)
	c.record(actor, &event.WaiverRevoked{Exception: out})
	c.reappraise(d, cause{kind: event.ByWaiver, actor: actor})
	return out, nil
}

func (c *change) revokeVouch(actor string, v Vouch, reason string) (out ShownException, err error) {
	if err := v.end(actor, reason, c.now); err != nil {
		return out, err
	}
	d, err := c.touch(v.Device)
	if err != nil {
		return out, err
	}
	if err := put(c, vouchKind, v.ID, &v); err != nil {
		return out, err
	}
	d.Vouches = slices.Clone(d.Vouches)
	d.Vouches[slices.IndexFunc(d.Vouches, func(x *Vouch) bool { return x.ID == v.ID })] = &v
	out = v.shown("", c.now)
	c.record(actor, &event.VouchRevoked{Exception: out})
	c.reappraise(d, cause{kind: event.ByVouch, actor: actor})
	return out, nil
}

// ShownException is a waiver or a vouch as people see it.
type ShownException = event.Exception

func (g *Exception) shown(rule string, now int64) ShownException {
	out := ShownException{ID: g.ID, Device: g.Device, Rule: rule, Reason: g.Reason, Author: g.Author,
		At: value.FormatTime(g.At), Until: value.FormatTime(g.Until), State: g.state(now), RevokedBy: g.RevokedBy,
		Revoked: g.Revoked}
	if g.RevokedAt != 0 {
		out.RevokedAt = value.FormatTime(g.RevokedAt)
	}
	return out
}

// shownWaiver tells a waiver as far as the snapshot's rulebook lets it live.
func (snap *Snapshot) shownWaiver(w *Waiver, now int64) ShownException {
	return snap.Book.limited(w).shown(w.Rule, now)
}

// ExceptionQuery selects waivers or vouches.
type ExceptionQuery struct {
	Device string
	State  string // live, ended, revoked; "" for all
	Within string // a duration: those live that end within it
}

// Waivers lists waivers, those that end first at the top.
func (s *Service) Waivers(q ExceptionQuery) ([]ShownException, error) {
	snap, now := s.Snapshot(), s.micros()
	var list []endingException
	for _, w := range snap.waivers.list() {
		w := snap.Book.limited(&w)
		shown := w.shown(w.Rule, now)
		if d := snap.Fleet.Get(w.Device); w.live(now) && d != nil {
			shown.Verdict = posture.None.String()
			if i := slices.Index(snap.Book.ruleKeys, w.Rule); i >= 0 {
				shown.Verdict = snap.at(d, now).Result.Verdicts[i].String()
			}
		}
		list = append(list, endingException{shown, w.Until})
	}
	return q.choose(list, now)
}

// Vouches lists vouches, those that end first at the top.
func (s *Service) Vouches(q ExceptionQuery) ([]ShownException, error) {
	snap, now := s.Snapshot(), s.micros()
	var list []endingException
	for _, v := range snap.vouches.list() {
		list = append(list, endingException{v.shown("", now), v.Until})
	}
	return q.choose(list, now)
}

// endingException is an exception with the moment it ends.
type endingException struct {
	ShownException
	until int64
}

// choose leaves what is asked for, those that end first at the top.
func (q *ExceptionQuery) choose(list []endingException, now int64) ([]ShownException, error) {
	state, until := q.State, int64(condition.Always)
	if q.Within != "" {
		d, err := value.ParseDuration(q.Within)
		if err != nil {
			return nil, &QueryError{Param: "within", Message: err.Error()}
		}
		state, until = "live", now+d.Num()
	}
	if state != "" && !slices.Contains([]string{"live", "ended", "revoked"}, state) {
		return nil, &QueryError{Param: "state",
			Message: fmt.Sprintf("%q is not a state; there are live, ended and revoked", state)}
	}
	out := []ShownException{}
	for _, x := range list {
		if (q.Device == "" || q.Device == x.Device) && (state == "" || state == x.State) && x.until <= until {
			out = append(out, x.ShownException)
		}
	}
	place := map[string]int{"live": 0, "revoked": 1, "ended": 1}
	slices.SortFunc(out, func(a, b ShownException) int {
		return cmp.Or(cmp.Compare(place[a.State], place[b.State]), strings.Compare(a.Until, b.Until),
			strings.Compare(a.ID, b.ID))
	})
	return out, nil
}
