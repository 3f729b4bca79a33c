// Package access decides: it puts one request, from one person and one device,
// to the gates of a rulebook.
//
// [Compile] indexes the gates by what they guard, so that [Program.Decide]
// touches only those that can match. A decision always carries the verdict of
// every gate that matched, and why. The package does not know how a device got
// its level; whoever calls it says what holds the device down through
// [Device.Below].
package access

import (
	"net/netip"
	"slices"
	"sync"

	"ironledger.example/core/condition"
	"ironledger.example/core/condition/syntax"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/core/value"
)

// Outcome is what a decision comes to.
type Outcome string

// The outcomes.
const (
	Allow  Outcome = "allow"
	Deny   Outcome = "deny"
	StepUp Outcome = "step-up"
)

// Obstacle is a rule that keeps a device below a level.
type Obstacle struct {
	Remedy  map[string]plaintext.Remedy `json:"remedy,omitempty"`
	Rule    string                      `json:"rule"`
	Title   string                      `json:"title,omitempty"`
	Verdict string                      `json:"verdict"`
	Why     []condition.Leaf            `json:"why"`
}

// RemediesIn lists the remedies of what stands in the way in a language, or the one
// that there is, each once.
func RemediesIn(tag string, list []Obstacle) (out []plaintext.Remedy) {
	for _, o := range list {
		if m, ok := plaintext.Language(o.Remedy, tag); ok && !slices.Contains(out, m) {
			out = append(out, m)
		}
	}
	return out
}

// Device is the device a request comes from. The zero Device is one of which the
// request says nothing.
type Device struct {
	ID    string
	Known bool
	// Unknown says why it is not known, in a clause; "" when it is, or when the
	// request names none.
	Unknown string
	Level   rulebook.Level
	View    *evidence.View
	// Revision counts the changes of the device; nothing is decided by it.
	Revision int64
	// Next tells when its level could next change by itself, in microseconds
	// since the Unix epoch; condition.Always for never. nil: nobody can say. Only
	// an allow asks.
	Next func() int64
	// Wake is a moment before which its level cannot change by itself, cheaper to
	// know than Next; 0 when it is not known.
	Wake int64
	// Below lists what holds it below a level; nil when nobody can say.
	Below func(rulebook.Level) []Obstacle
}

// Request is one question: may this person, on this device, do this? What it
// leaves empty is unknown to conditions.
type Request struct {
	User     string   // "" when a device asks for itself
	Known    bool     // whether the directory knows the user
	Groups   []string // as the directory has them
	Device   Device
	Resource string
	Action   string
	IP       netip.Addr // the zero Addr when not said
	Country  string
	MFA      *bool
	Methods  []string // nil when not said
	AuthAt   int64    // microseconds since the Unix epoch; 0 when not said
	// Certificate is whether the connection proved possession of a certificate
	// that is trusted for the device; nil when not said.
	Certificate *bool
	// CertificateProfile is the profile under which we issued that certificate, "" for one that is not ours, and
	// CertificateAt when it began to count, in microseconds since the Unix epoch; said of a certificate that is trusted.
	CertificateProfile string
	CertificateAt      int64
	// Proof is how a device that joins a network proved which one it is, one of [rulebook.Proofs]; "" when not said.
	Proof string
	// Shown says that the connection showed a certificate, whatever became of it.
	Shown bool
	// Claimed says that nobody proved who the person is.
	Claimed bool
}

type gate struct {
	*rulebook.Gate
	shadow bool
	timing
}

func newGate(g *rulebook.Gate, dict *evidence.Dictionary) gate {
	return gate{g, g.Mode == rulebook.Shadow, timingOf(dict, g.When, g.Need)}
}

// timing is how time can turn some conditions.
type timing struct {
	timed []*condition.Program // those that may turn with no event: by an age, or as evidence goes stale
	clock bool                 // whether they look at the moment of the request itself
}

func timingOf(dict *evidence.Dictionary, of ...*condition.Program) (t timing) {
	for _, p := range of {
		if p == nil {
			continue
		}
		reads := p.Reads()
		t.clock = t.clock || slices.Contains(reads, rulebook.RequestName(rulebook.SlotAt))
		if len(p.Turns()) > 0 || slices.ContainsFunc(reads, func(name string) bool { return dict.Slot(name) >= 0 }) {
			t.timed = append(t.timed, p)
		}
	}
	return t
}

// turns is the first moment after now at which they could be answered otherwise with no event.
func (t *timing) turns(env *condition.Env) int64 {
	if t.clock {
		return env.Now
	}
	at := condition.Always
	for _, p := range t.timed {
		at = min(at, p.Next(env))
	}
	return at
}

type resource struct {
	tags  []string
	value value.Value // the tags as a value

	// The gates that guard it, in the order of their numbers: those for everyone,
	// and those for some by who they are.
	everyone        []int
	byUser, byGroup map[string][]int

	network *network // nil: devices do not join it
}

// Program is a rulebook prepared for deciding. It is immutable.
type Program struct {
	rb         *rulebook.Rulebook
	gates      []gate
	resources  map[string]*resource
	other      *resource // a resource that the rulebook does not list
	breakGlass map[string]bool
	noDevice   condition.Frame
	nowhere    value.Value // the places of a request that says neither an address nor a country
	groups     []string    // texts in conditions: they may name groups
	trials     sync.Pool   // of *Trial: room that decisions use again
}

// Compile prepares the gates of a rulebook.
func Compile(rb *rulebook.Rulebook) *Program {
	p := &Program{rb: rb, resources: map[string]*resource{}, breakGlass: map[string]bool{},
		noDevice: condition.NewFrame(len(rb.Dict.Attributes()))}
	p.nowhere = value.OfPartialTexts(rb.PlacesOf(netip.Addr{}, ""))
	for i := range rb.Gates {
		if g := &rb.Gates[i]; g.Mode != rulebook.Draft {
			p.gates = append(p.gates, newGate(g, rb.Dict))
		}
	}
	for _, r := range rb.Resources {
		p.resources[r.ID] = p.index(r.ID, r.Tags)
		p.resources[r.ID].network = newNetwork(rb.Network(r.ID), rb.Dict)
	}
	p.other = p.index("", nil)
	p.groups = p.groupsNamed()
	for _, u := range rb.BreakGlass {
		p.breakGlass[u] = true
	}
	return p
}

// Rulebook returns the rulebook the program was compiled from.
func (p *Program) Rulebook() *rulebook.Rulebook { return p.rb }

func (p *Program) index(id string, tags []string) *resource {
	r := &resource{tags: tags, value: value.OfTexts(tags), byUser: map[string][]int{}, byGroup: map[string][]int{}}
	for i, g := range p.gates {
		if !guards(&g.What, id, tags) {
			continue
		}
		if g.Who.Everyone {
			r.everyone = append(r.everyone, i)
			continue
		}
		for _, u := range g.Who.Users {
			r.byUser[u] = append(r.byUser[u], i)
		}
		for _, x := range g.Who.Groups {
			r.byGroup[x] = append(r.byGroup[x], i)
		}
	}
	return r
}

// groupsNamed lists the texts in conditions, which may be names of groups.
func (p *Program) groupsNamed() []string {
	var all []string
	texts := func(c *condition.Program) {
		if c != nil {
			syntax.Walk(c.Node(), func(n syntax.Node) { all = append(all, syntax.Texts(n)...) })
		}
	}
	for _, g := range p.gates {
		texts(g.When)
		texts(g.Need)
	}
	slices.Sort(all)
	return slices.Compact(all)
}

// candidates lists in room the gates that name the person, in the order of
// their numbers.
func (r *resource) candidates(q *Request, room []int) []int {
	room = append(room[:0], r.everyone...)
	first := len(room)
	if q.User != "" {
		room = append(room, r.byUser[q.User]...)
	}
	for _, g := range q.Groups {
		room = append(room, r.byGroup[g]...)
	}
	if len(room) > first {
		slices.Sort(room)
		room = slices.Compact(room)
	}
	return room
}

func intersect(a, b []string) bool {
	return slices.ContainsFunc(a, func(x string) bool { return slices.Contains(b, x) })
}

// matches reports whether a gate that names the person is about the action, and
// does not leave the person out.
func (g *gate) matches(q *Request) bool {
	if len(g.What.Actions) > 0 && !slices.Contains(g.What.Actions, q.Action) {
		return false
	}
	w := &g.Who
	return !(q.User != "" && slices.Contains(w.ExceptUsers, q.User)) && !intersect(w.ExceptGroups, q.Groups)
}

// emergency reports whether a request is that of a break-glass account, for whom gates are not asked. A name that
// nobody proved, or that stands behind an address that anybody can copy, is none.
func (p *Program) emergency(q *Request) bool {
	return q.User != "" && p.breakGlass[q.User] && !q.Claimed && q.Proof != rulebook.ProofAddress
}

// level is the level that counts for a request: of a device that is not known,
// at most what no baseline covers.
func (p *Program) level(q *Request) rulebook.Level {
	if !q.Device.Known && q.Device.ID == "" {
		return p.rb.Uncovered
	}
	if !q.Device.Known {
		return min(q.Device.Level, p.rb.Uncovered)
	}
	return q.Device.Level
}

// frame fills the slots of what a request says.
func (p *Program) frame(q *Request, res *resource, now int64, f condition.Frame) {
	set := func(i int, v value.Value) { f.Set(i, v, condition.Always) }
	set(rulebook.SlotKnownDevice, value.OfBool(q.Device.Known))
	set(rulebook.SlotLevel, p.rb.LevelValue(p.level(q)))
	if q.User != "" {
		set(rulebook.SlotUserID, value.OfText(q.User))
		set(rulebook.SlotUserKnown, value.OfBool(q.Known))
	}
	set(rulebook.SlotUserGroups, value.OfTexts(q.Groups))
	if q.MFA != nil {
		set(rulebook.SlotMFA, value.OfBool(*q.MFA))
	}
	if q.Methods != nil {
		set(rulebook.SlotMethods, value.OfTexts(q.Methods))
	}
	if q.AuthAt != 0 {
		set(rulebook.SlotAuthAt, value.OfTime(q.AuthAt))
	}
	set(rulebook.SlotResourceID, value.OfText(q.Resource))
	set(rulebook.SlotResourceTags, res.value)
	if q.Action != "" {
		set(rulebook.SlotAction, value.OfText(q.Action))
	}
	if q.IP.IsValid() {
		set(rulebook.SlotIP, value.OfPrefix(netip.PrefixFrom(q.IP, q.IP.BitLen())))
	}
	if q.Country != "" {
		set(rulebook.SlotCountry, value.OfText(q.Country))
	}
	places := p.nowhere
	if q.IP.IsValid() || q.Country != "" {
		places = value.OfPartialTexts(p.rb.PlacesOf(q.IP, q.Country))
	}
	set(rulebook.SlotPlaces, places)
	if q.Certificate != nil {
		set(rulebook.SlotCertificate, value.OfBool(*q.Certificate))
		if *q.Certificate {
			set(rulebook.SlotCertificateProfile, value.OfText(q.CertificateProfile))
			set(rulebook.SlotCertificateAt, value.OfTime(q.CertificateAt))
		}
	}
	if i := rulebook.Proofs.Enum.Index(q.Proof); i >= 0 {
		set(rulebook.SlotProof, value.OfEnum(rulebook.Proofs.Enum, i))
	}
	set(rulebook.SlotAt, value.OfTime(now))
}

// origins explains where values came from: the device's evidence, or the request.
type origins struct {
	view *evidence.View
	env  *condition.Env
}

func (o origins) Origin(frame, slot int) condition.Origin {
	if frame == evidence.DeviceFrame {
		if o.view == nil {
			return condition.Origin{Why: "the device is unknown"}
		}
		return o.view.Origin(slot, o.env.Now)
	}
	if !o.env.Frames[frame].Value(slot).Known() {
		return condition.Origin{Source: "request", Why: "the request does not say"}
	}
	switch slot {
	case rulebook.SlotPlaces:
		said := o.env.Frames[frame]
		if !said.Value(rulebook.SlotIP).Known() && !said.Value(rulebook.SlotCountry).Known() {
			return condition.Origin{Source: "request", Why: "the request does not say"}
		}
	case rulebook.SlotLevel, rulebook.SlotKnownDevice:
		return condition.Origin{Source: "standing"}
	case rulebook.SlotUserGroups, rulebook.SlotUserKnown:
		return condition.Origin{Source: "directory"}
	case rulebook.SlotResourceTags:
		return condition.Origin{Source: "rulebook"}
	}
	return condition.Origin{Source: "request"}
}
