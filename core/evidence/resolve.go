package evidence

import (
	"cmp"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/value"
)

// Limit says how old a reading under a dotted prefix may be.
type Limit struct {
	Prefix string // "" for the default
	Max    int64  // microseconds
}

// DefaultLimit is the freshness of everything when nothing is declared: 24h.
const DefaultLimit = 24 * 3600 * 1_000_000

// SourceRule says what a source may supply and how much it counts.
type SourceRule struct {
	ID       string
	Title    string
	Rank     int
	Provides []string // dotted prefixes, or "*"
	// Identifies is whether it may make devices known, and add or change their keys.
	Identifies bool
	// QuietAfter is after how long without a report from it something is wrong, in
	// microseconds; 0 when the rulebook does not say.
	QuietAfter int64
	// Vouches is for how long its word that a device is genuine counts, in microseconds;
	// 0 when it does not.
	Vouches int64
}

// Band gives a threat level to scores from a bound upward.
type Band struct {
	From  int64
	Level int // index into ThreatLevel
}

// Policy is what a rulebook says about evidence.
type Policy struct {
	Limits  []Limit
	Sources []SourceRule // nil: every source counts, at rank 0
	Bands   []Band       // in rising order; nil: no level is derived from a score
	Combine []Combine    // how several sources combine; the dictionary's own way where it says nothing
	Issuers []certificate.Issuer
	// IgnoreKeys are serials and hardware ids that say nothing, beside those of
	// [Unset].
	IgnoreKeys []string
}

// Combine says how the readings of several sources combine for what a dotted
// prefix covers: to the one that lowers trust most, or by rank.
type Combine struct {
	Prefix string
	Worst  bool
}

// Resolver decides which reading of each attribute counts.
type Resolver struct {
	dict    *Dictionary
	limits  []int64 // by slot
	sources map[string]SourceRule
	bands   []Band
	worst   []Direction // by slot; 0: by rank
	checker *certificate.Checker
	ignored map[string]bool // serials and hardware ids, case folded

	owner, groups, roster, vouched, tags, score, level, certs, issued, serial, hardware int // slots
}

// NewResolver prepares a policy for the attributes of dict.
func NewResolver(dict *Dictionary, p Policy) *Resolver {
	r := &Resolver{dict: dict, limits: make([]int64, len(dict.list)), bands: p.Bands,
		owner: dict.Slot("owner"), groups: dict.Slot("owner.groups"), roster: dict.Slot("on_roster"),
		vouched: dict.Slot("vouched"), tags: dict.Slot("tags"),
		score: dict.Slot("threat.score"), level: dict.Slot("threat.level"),
		certs: dict.Slot("certs"), issued: dict.Slot(IssuedName), serial: dict.Slot("serial"),
		hardware: dict.Slot("hardware_id"),
		worst:    make([]Direction, len(dict.list)), checker: certificate.NewChecker(p.Issuers),
		ignored: map[string]bool{}}
	for _, k := range p.IgnoreKeys {
		r.ignored[Folded(BySerial, k).Text] = true
	}
	for i, a := range dict.list {
		r.limits[i] = condition.Always
		if !a.Timeless {
			r.limits[i] = limitOf(p.Limits, a.Name)
		}
		if combineOf(p.Combine, &a) {
			r.worst[i] = a.Worse
		}
	}
	if p.Sources != nil {
		r.sources = make(map[string]SourceRule, len(p.Sources))
		for _, s := range p.Sources {
			r.sources[s.ID] = s
		}
	}
	return r
}

// limitOf takes the limit with the longest prefix that covers name.
func limitOf(limits []Limit, name string) int64 {
	best, length := int64(DefaultLimit), -1
	for _, l := range limits {
		if len(l.Prefix) > length && (l.Prefix == "" || Covers(l.Prefix, name)) {
			best, length = l.Max, len(l.Prefix)
		}
	}
	return best
}

// combineOf reports whether the worst reading of an attribute counts: the
// longest prefix that covers it decides, or else the dictionary.
func combineOf(combine []Combine, a *Attribute) bool {
	worst, length := a.Worst, -1
	for _, c := range combine {
		if len(c.Prefix) > length && Covers(c.Prefix, a.Name) {
			worst, length = c.Worst, len(c.Prefix)
		}
	}
	return worst
}

// Same reports whether another resolver makes the same view of a record.
func (r *Resolver) Same(o *Resolver) bool {
	same := func(a, b Attribute) bool { return a.Name == b.Name && a.Type.Same(b.Type) && a.Timeless == b.Timeless }
	return slices.EqualFunc(r.dict.list, o.dict.list, same) && slices.Equal(r.limits, o.limits) &&
		slices.Equal(r.bands, o.bands) && slices.Equal(r.worst, o.worst) &&
		r.checker.Same(o.checker) && (r.sources == nil) == (o.sources == nil) && maps.EqualFunc(r.sources,
		o.sources, func(a, b SourceRule) bool {
			return a.Rank == b.Rank && a.Identifies == b.Identifies && a.Vouches == b.Vouches &&
				slices.Equal(a.Provides, b.Provides)
		}) && maps.Equal(r.ignored, o.ignored)
}

// Inherit lets the resolver use what an older one with the same issuers has
// found out about certificates.
func (r *Resolver) Inherit(old *Resolver) {
	if r.checker.Same(old.checker) {
		r.checker = old.checker
	}
}

// Accepts says why a source may not supply an attribute, or returns nil.
func (r *Resolver) Accepts(source, name string) error {
	if r.sources == nil || source == Authority && name == IssuedName {
		return nil
	}
	s, ok := r.sources[source]
	if !ok {
		return fmt.Errorf("the rulebook accepts no evidence from the source %s", source)
	}
	for _, p := range s.Provides {
		if Covers(p, name) {
			return nil
		}
	}
	return fmt.Errorf("the source %s may only supply %s", source, strings.Join(s.Provides, ", "))
}

// RefuseUnprovided takes out of a report what its source may not supply, and returns that
// as refusals. The keys that say which device it is are nobody's to supply:
// from a source that may not, they join the report and are not evidence.
func (r *Resolver) RefuseUnprovided(rep *Report) []Refusal {
	refused := r.refuseVouch(rep)
	if r.sources == nil {
		return refused
	}
	rep.Readings = slices.DeleteFunc(rep.Readings, func(x Reading) bool {
		err := r.Accepts(rep.Source, x.Name)
		if err != nil && x.Name != "serial" && x.Name != "hardware_id" {
			refused = append(refused, Refusal{x.Name, err.Error()})
		}
		return err != nil
	})
	return refused
}

// Facts is what the service, not a report, knows of a device.
type Facts struct {
	ID       string // of the device
	OnRoster bool
	Tags     *value.Value // a list of texts that does not change; nil for none
	Owner    string       // set by hand, and counting where no source says another; "" for none
	Vouched  int64        // until when somebody vouches for the device; 0 when nobody does
	// Stated are certificates that an example of a rulebook states by their fields. They are taken as they are and
	// checked by nobody: nothing that comes from outside is ever put here.
	Stated []value.Value
	// Groups gives the groups of a person, a list of texts that does not change;
	// nil is one of none.
	Groups func(person string) *value.Value
}

// View is one device's evidence at a moment: a slot for each attribute. It is
// immutable. It holds from the moment it was made for until Valid.
type View struct {
	condition.Frame
	// Valid is the last moment at which the same readings count; after it
	// another source's reading takes the place of one that went stale.
	Valid int64

	earliest int64 // the first Until of a value that was fresh when the view was made

	by   *Resolver
	rec  *Record
	made int64
}

// Resolve makes the view of a record at now.
func (r *Resolver) Resolve(rec *Record, facts Facts, now int64) *View {
	v := &View{Frame: condition.NewView(len(r.dict.list)), Valid: condition.Always, by: r, rec: rec, made: now}
	rest := rec.all() // sorted by name, as r.dict.sorted is
	for _, slot := range r.dict.sorted {
		name := r.dict.list[slot].Name
		for len(rest.labels) > 0 && rest.labels[0].name != name && rest.labels[0].name < name { // no longer declared
			rest = rest.from(1)
		}
		these := rest.about(name)
		if len(these.labels) > 0 && slot != r.level && slot != r.issued {
			r.choose(v, slot, these, now)
		}
		rest = rest.from(len(these.labels))
	}
	if levels := r.levels(rec); len(levels.labels) > 0 {
		r.choose(v, r.level, levels, now)
	}
	v.Point(r.roster, truth(facts.OnRoster), condition.Always)
	v.Point(r.tags, cmp.Or(facts.Tags, &none), condition.Always)
	v.Point(r.vouched, truth(facts.Vouched > now), condition.Always)
	if facts.Vouched > now && facts.Vouched < condition.Always {
		v.hold(r.vouched, facts.Vouched-1)
	}
	if facts.Owner != "" && !v.Value(r.owner).Known() {
		owner := value.OfText(facts.Owner)
		v.Point(r.owner, &owner, condition.Always)
	}
	if owner := v.Value(r.owner); owner.Known() && facts.Groups != nil {
		groups := facts.Groups(owner.Str())
		if groups == nil {
			groups = &none
		}
		v.Point(r.groups, groups, condition.Always)
	}
	r.check(v, facts.ID, now)
	if len(facts.Stated) > 0 {
		all := value.OfList(append(slices.Clone(v.Value(r.certs).Members()), facts.Stated...))
		v.Point(r.certs, &all, condition.Always)
	}
	v.earliest = v.firstEnd(now)
	return v
}

var (
	yes, no = value.OfBool(true), value.OfBool(false)
	none    = value.OfTexts(nil)
)

// ListOf makes what [Facts] gives of the groups that a person has.
func ListOf(groups []string) *value.Value {
	v := value.OfTexts(groups)
	return &v
}

func truth(b bool) *value.Value {
	if b {
		return &yes
	}
	return &no
}

// firstEnd is the first Until at or after now of a value in the view.
func (v *View) firstEnd(now int64) int64 {
	at := condition.Always
	for _, c := range v.Cells {
		if c.Until >= now {
			at = min(at, c.Until)
		}
	}
	return at
}

// Stale is the first moment after now at which a value of the view is stale,
// or the view must be made again; Always for never.
func (v *View) Stale(now int64) int64 {
	at := v.earliest
	if at < now {
		at = v.firstEnd(now)
	}
	if at = min(at, v.Valid); at == condition.Always {
		return at
	}
	return at + 1
}

// hold makes the value of a slot count no longer than until; then the view is
// made again.
func (v *View) hold(slot int, until int64) {
	v.Cells[slot].Until = min(v.Cells[slot].Until, until)
	v.Valid = min(v.Valid, v.Cells[slot].Until)
}

// check looks at the certificates of a device, if they are fresh.
func (r *Resolver) check(v *View, id string, now int64) {
	d, fresh := v.device(id), v.Cells[r.certs].Until
	var shown value.Value
	if fresh >= now {
		shown = v.Value(r.certs)
	}
	switch {
	case len(d.Issued) == 0 && !shown.Known():
		return
	case !shown.Known(): // what we issued needs nobody to show it
		fresh = condition.Always
	}
	issued := v.rec.of(IssuedName)
	for i := range issued.labels {
		if issued.labels[i].source == Authority {
			v.Point(r.issued, issued.held[i].value, condition.Always)
		}
	}
	checked, until := r.checker.Check(certificate.Union(shown, d.Issued), d, now)
	v.Point(r.certs, &checked, fresh)
	v.hold(r.certs, min(until, fresh))
}

// levels returns the readings of threat.level, one a source. That of a source
// which gave a score without a level, or later than one, is derived from the
// score.
func (r *Resolver) levels(rec *Record) span {
	given := rec.of("threat.level")
	if len(r.bands) == 0 {
		return given
	}
	levels, scores := span{slices.Clone(given.labels), slices.Clone(given.held)}, rec.of("threat.score")
	for i, l := range scores.labels {
		h := scores.held[i]
		at := slices.IndexFunc(given.labels, func(g label) bool { return g.source == l.source })
		if at >= 0 && (!h.value.Known() || given.held[at].value.Known() && given.held[at].at >= h.at) {
			continue
		}
		if h.value.Known() {
			h.value = value.Shared(value.OfEnum(ThreatLevel.Enum, r.band(h.value.Num())))
		}
		if l.name = "threat.level"; at >= 0 {
			levels.labels[at], levels.held[at] = l, h
			continue
		}
		levels.labels, levels.held = append(levels.labels, l), append(levels.held, h)
	}
	return levels
}

// band is the place of the threat level of a score.
func (r *Resolver) band(score int64) int {
	level := 0
	for _, b := range r.bands {
		if score >= b.From {
			level = b.Level
		}
	}
	return level
}

// choose fills a slot from the readings of one attribute, one a source.
func (r *Resolver) choose(v *View, slot int, of span, now int64) {
	i, fresh := r.pick(slot, of, now)
	if i < 0 || !of.held[i].value.Known() {
		return
	}
	if of.labels[i].proved {
		v.Prove(slot)
	}
	// A stale value is kept for explanation, and never fresh again.
	v.Point(slot, of.held[i].value, until(of.held[i].at, r.limits[slot]))
	if fresh > 1 {
		v.Valid = min(v.Valid, v.Cells[slot].Until)
	}
}

// pick returns which reading of an attribute counts at now, or the newest
// one, which explains why none does, -1 for none, and how many are fresh.
func (r *Resolver) pick(slot int, of span, now int64) (counts, fresh int) {
	a := &r.dict.list[slot]
	best, newest := -1, -1
	for i, x := range of.held {
		if x.value.Known() && x.value.Kind() != a.Type.Kind || r.sources != nil &&
			r.Accepts(of.labels[i].source, a.Name) != nil {
			continue
		}
		if newest < 0 || x.at > of.held[newest].at {
			newest = i
		}
		if !x.value.Known() || until(x.at, r.limits[slot]) < now {
			continue
		}
		if fresh++; best < 0 || r.outranks(of, i, best, r.worst[slot]) {
			best = i
		}
	}
	if best < 0 {
		best = newest
	}
	return best, fresh
}

func (r *Resolver) outranks(of span, x, best int, worse Direction) bool {
	if worse != 0 {
		if c := of.held[x].value.Compare(*of.held[best].value); c != 0 {
			return c == int(worse)
		}
	}
	from, over := of.labels[x].source, of.labels[best].source
	if a, b := r.sources[from].Rank, r.sources[over].Rank; a != b {
		return a > b
	}
	if of.held[x].at != of.held[best].at {
		return of.held[x].at > of.held[best].at
	}
	return from < over
}

// until is the last moment at which a reading is fresh.
func until(at, limit int64) int64 {
	if at > condition.Always-limit {
		return condition.Always
	}
	return at + limit
}

// Env returns an environment at now with the view in the device's frame.
func (v *View) Env(now int64) *condition.Env {
	env := &condition.Env{Now: now}
	env.Frames[DeviceFrame] = v.Frame
	return env
}

// Reading returns the reading that fills a slot, or the newest one that could
// not, or nil when there is none.
func (v *View) Reading(slot int) *Reading {
	of := v.rec.of(v.by.dict.list[slot].Name)
	if slot == v.by.level {
		of = v.by.levels(v.rec)
	}
	i, _ := v.by.pick(slot, of, v.made)
	if i < 0 {
		return nil
	}
	x := of.labels[i].reading(of.held[i])
	return &x
}

// Readings yields the readings of the view's record, each with its slot and with whether it fills that, or would if
// it were fresh.
func (v *View) Readings(yield func(x Shown) bool) {
	dict, rest := v.by.dict, v.rec.all()
	for len(rest.labels) > 0 {
		slot, declared := dict.index[rest.labels[0].name]
		these := rest.about(rest.labels[0].name)
		rest = rest.from(len(these.labels))
		from := ""
		if !declared {
			slot = -1
		} else {
			from = v.filler(slot, these)
		}
		for i := range these.labels {
			x := Shown{Reading: these.labels[i].reading(these.held[i]), Slot: slot}
			x.Counts = from != "" && x.Source == from
			if !yield(x) {
				return
			}
		}
	}
}

// Shown is a reading in a view.
type Shown struct {
	Reading
	Slot   int  // -1: the dictionary declares no such attribute
	Counts bool // whether it fills the slot, or would if it were fresh
}

// filler is the source whose reading fills a slot, if it is fresh or not; "" for none. These are those of its attribute.
func (v *View) filler(slot int, these span) string {
	switch {
	case slot == v.by.issued: // what only our own authority says
		if v.Value(slot).Known() {
			return Authority
		}
		return ""
	case len(these.labels) == 1 && slot != v.by.level && slot != v.by.certs: // theirs are made from readings
		if v.Holds(slot, these.held[0].value) {
			return these.labels[0].source
		}
		return ""
	case slot == v.by.level:
		these = v.by.levels(v.rec)
	}
	if i, _ := v.by.pick(slot, these, v.made); i >= 0 && these.held[i].value.Known() {
		return these.labels[i].source
	}
	return ""
}

// Get returns the value of an attribute at now; unknown when stale or missing.
func (v *View) Get(slot int, now int64) value.Value {
	if v.Cells[slot].Until >= now {
		return v.Value(slot)
	}
	return value.Value{}
}

// Origin tells where the value of a slot came from, or why it is unknown at now.
func (v *View) Origin(slot int, now int64) condition.Origin {
	x := v.Reading(slot)
	if x == nil {
		if v.Value(slot).Known() {
			return condition.Origin{Source: "service"}
		}
		return condition.Origin{Why: "never reported"}
	}
	o := condition.Origin{Source: x.Source, At: x.At}
	switch {
	case !x.Value.Known():
		o.Why = "unavailable: " + x.Unavailable
	case v.Cells[slot].Until < now:
		o.Last = x.Value.String()
		o.Why = fmt.Sprintf("stale: observed %s ago, fresh for %s", value.FormatAge(now-x.At),
			value.FormatDuration(v.by.limits[slot]))
	}
	return o
}

// FreshFor is the shortest time for which a source's readings of a record are fresh, in microseconds;
// [condition.Always] when none goes stale.
func (r *Resolver) FreshFor(rec *Record, source string) int64 {
	shortest := condition.Always
	for _, l := range rec.all().labels {
		if slot, ok := r.dict.index[l.name]; ok && l.source == source {
			shortest = min(shortest, r.limits[slot])
		}
	}
	return shortest
}

// Fresh is the last moment at which a reading is not too old to count.
func (r *Resolver) Fresh(slot int, x *Reading) int64 { return until(x.At, r.limits[slot]) }
