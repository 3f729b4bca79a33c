package rehearsal

import (
	"slices"

	"ironledger.example/core/access"
	"ironledger.example/core/condition"
	"ironledger.example/core/directory"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

// Fleet is a set of devices built from reports, without a service: the offline
// commands work on it. There is no history, so a grace begins at the moment
// asked about.
type Fleet struct {
	rb       *rulebook.Rulebook
	resolver *evidence.Resolver
	rules    *posture.Program
	gates    *access.Program
	people   map[string][]string
	order    []string
	records  map[string]*evidence.Record
	keys     map[evidence.Key]string
	spoken   map[string][]evidence.Spoken
	vouches  map[string]map[string]word // by device and source
	waiting  []*evidence.Report
	roster   map[evidence.Key]bool

	// NoGrace makes a failing rule count from the first moment.
	NoGrace bool
}

// NewFleet returns an empty fleet under a rulebook.
func NewFleet(rb *rulebook.Rulebook, people []directory.Person) *Fleet {
	f := &Fleet{rb: rb, resolver: evidence.NewResolver(rb.Dict, rb.Policy), rules: posture.Compile(rb),
		gates:  access.Compile(rb),
		people: map[string][]string{}, records: map[string]*evidence.Record{},
		keys: map[evidence.Key]string{}, spoken: map[string][]evidence.Spoken{}, vouches: map[string]map[string]word{}}
	for _, p := range people {
		f.people[p.ID] = p.Groups
	}
	return f
}

// Register puts hardware on the roster.
func (f *Fleet) Register(hardware []directory.Hardware) {
	f.roster = map[evidence.Key]bool{}
	for _, h := range hardware {
		f.roster[evidence.Folded(evidence.BySerial, h.Serial)] = h.Serial != ""
		f.roster[evidence.Folded(evidence.ByHardware, h.HardwareID)] = h.HardwareID != ""
	}
}

func (f *Fleet) registered(id string) bool {
	for k, on := range f.roster {
		if device, ok := f.Find(k); on && ok && device == id {
			return true
		}
	}
	return false
}

// Add takes a report and returns the attributes its source may not supply. One
// of a device that its source cannot make known waits for another that does.
// The error is for a report that cannot be joined to one device.
func (f *Fleet) Add(r *evidence.Report) ([]evidence.Refusal, error) {
	j, err := f.resolver.Join(r, f)
	if err != nil {
		return nil, err
	}
	if j.Wait {
		refused := f.resolver.RefuseUnprovided(r)
		r.Vouch = nil // for a device that nobody knows no word counts
		if len(r.Readings) > 0 || len(refused) == 0 {
			f.waiting = append(f.waiting, r)
		}
		return refused, nil
	}
	refused := f.resolver.RefuseUnprovided(r)
	if !j.Known {
		f.order = append(f.order, j.Device)
	}
	f.records[j.Device] = f.records[j.Device].With(r)
	f.vouch(j.Device, r)
	f.spoken[j.Device] = evidence.With(f.spoken[j.Device], evidence.SpokenBy(r))
	for _, k := range j.Lost {
		delete(f.keys, k)
	}
	for _, k := range j.Gained {
		f.keys[k] = j.Device
	}
	for _, k := range f.resolver.CertificateKeys(f.records[j.Device]) {
		if owner, shown := f.keys[k]; shown && owner != j.Device {
			f.keys[k] = "" // of two devices: it points at neither
			continue
		}
		f.keys[k] = j.Device
	}
	if len(j.Gained) == 0 {
		return refused, nil
	}
	again := f.waiting
	f.waiting = nil
	for _, w := range again {
		if _, err := f.Add(w); err != nil {
			return refused, err
		}
	}
	return refused, nil
}

// vouch keeps what a source says of a device being genuine, the newest word of each.
func (f *Fleet) vouch(device string, r *evidence.Report) {
	if r.Vouch == nil {
		return
	}
	by := f.vouches[device]
	if by == nil {
		by = map[string]word{}
		f.vouches[device] = by
	}
	if w, said := by[r.Source]; !said || w.at <= r.At {
		by[r.Source] = word{r.At, *r.Vouch}
	}
}

// vouched is until when somebody vouches for a device, 0 when nobody does.
func (f *Fleet) vouched(device string) (until int64) {
	for source, w := range f.vouches[device] {
		if w.yes {
			until = max(until, w.at+f.resolver.VouchesFor(source))
		}
	}
	return until
}

// word is what a source said last of a device being genuine.
type word struct {
	at  int64
	yes bool
}

// Waiting lists the reports of devices that nobody made known.
func (f *Fleet) Waiting() []*evidence.Report { return f.waiting }

// Find returns the device that a key points at, as [evidence.Known] asks.
func (f *Fleet) Find(k evidence.Key) (string, bool) {
	if f.resolver.Ignores(k) {
		return "", false
	}
	if k.Kind == evidence.ByID {
		_, ok := f.records[k.Text]
		return k.Text, ok
	}
	id := f.keys[k]
	return id, id != ""
}

// Spoken returns how a source spoke of a device last.
func (f *Fleet) Spoken(device, source string) (evidence.Spoken, bool) {
	i := slices.IndexFunc(f.spoken[device], func(s evidence.Spoken) bool { return s.Source == source })
	if i < 0 {
		return evidence.Spoken{}, false
	}
	return f.spoken[device][i], true
}

// Line is the standing of one device.
type Line struct {
	Device string `json:"device"`
	*posture.Standing
}

// appraised is a device at a moment.
type appraised struct {
	env    *condition.Env
	view   *evidence.View
	result posture.Result
}

func (f *Fleet) appraise(id string, now int64) *appraised {
	facts := evidence.Facts{ID: id, OnRoster: f.registered(id), Vouched: f.vouched(id),
		Groups: func(p string) *value.Value { return evidence.ListOf(f.people[p]) }}
	a := &appraised{view: f.resolver.Resolve(f.records[id], facts, now)}
	a.env = a.view.Env(now)
	a.result.NoGrace = f.NoGrace
	f.rules.Appraise(a.env, &a.result)
	return a
}

// Standings yields the standing of every device at now, in the order in which
// the devices first appeared.
func (f *Fleet) Standings(now int64) func(yield func(Line) bool) {
	return func(yield func(Line) bool) {
		for _, id := range f.order {
			a := f.appraise(id, now)
			if !yield(Line{id, f.rules.Explain(a.env, a.view, &a.result)}) {
				return
			}
		}
	}
}

// Decide answers a request at now.
func (f *Fleet) Decide(e *access.Evaluation, now int64) *access.Decision {
	q := e.Request()
	q.Groups, q.Known = f.groups(q.User)
	id, ok := e.Find(f.Find)
	var a *appraised
	if ok {
		a = f.appraise(id, now)
		ok = e.Certified(func(sha256 string) bool { return a.view.Issued(id, nil, sha256) })
	}
	if ok {
		q.Device = access.Device{ID: id, Known: true, Level: a.result.Level, View: a.view,
			Next: func() int64 { return f.rules.Next(a.env, &a.result) },
			Below: func(l rulebook.Level) []access.Obstacle {
				return Obstacles(f.rules.Holding(a.env, a.view, &a.result, l))
			}}
	} else {
		q.Device.Unknown = e.Missed()
	}
	if v := q.Device.View; v != nil {
		e.Prove(q, v.Get(f.rb.Dict.Slot("certs"), now))
	}
	return f.gates.Decide(q, now)
}

// groups are those of a person, and whether the directory knows them.
func (f *Fleet) groups(person string) ([]string, bool) {
	groups, known := f.people[person]
	return groups, known
}

// Obstacles tells rulings as what stands between a device and a level.
func Obstacles(rulings []posture.Ruling) []access.Obstacle {
	out := make([]access.Obstacle, len(rulings))
	for i, r := range rulings {
		out[i] = access.Obstacle{Rule: r.Rule, Title: r.Title, Verdict: r.Verdict.String(), Why: r.Why,
			Remedy: r.Remedy}
	}
	return out
}
