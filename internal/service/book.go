package service

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"fmt"
	"runtime"
	"slices"
	"strings"
	"sync"

	"ironledger.example/core/access"
	"ironledger.example/core/condition"
	"ironledger.example/core/event"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/rehearsal"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/store"
)

// Book is a published rulebook, compiled.
type Book struct {
	Info     store.Rulebook // version 0: nothing has been published
	Rulebook *rulebook.Rulebook
	Rules    *posture.Program
	Gates    *access.Program
	Search   *rulebook.Names // the names that a search of devices may use
	strict   map[string]bool // rules that nobody can be excepted from

	*generation
}

// generation is what has to be known of the book under which a device was
// appraised. It outlives the book.
type generation struct {
	directories uint64 // counts what the directory and the roster were, which views hold
	Resolver    *evidence.Resolver
	ruleKeys    []string
	verdicts    verdictSets
}

// The slots of the names that a search may use beside the attributes.
const (
	searchLevel = iota
	searchID
	searchSeenAt
	searchSince
)

// emptyRulebook is in force until one is published: no device is covered and
// every request is denied.
const emptyRulebook = "rulebook: none\n"

func emptyBook() *Book {
	b, err := compileBook(&store.Rulebook{Files: []rulebook.File{{Name: "none.yaml", Text: emptyRulebook}}})
	if err != nil {
		panic(err) // a constant
	}
	return b
}

func compileBook(kept *store.Rulebook) (*Book, error) {
	rb, err := rulebook.Load(kept.Files)
	if err != nil {
		return nil, err
	}
	rules, strict := posture.Compile(rb), map[string]bool{}
	for _, b := range rb.Baselines {
		for _, r := range b.Rules {
			if r.Strict {
				strict[b.ID+"/"+r.ID] = true
			}
		}
	}
	return &Book{
		strict: strict,
		Info:   *kept, Rulebook: rb, Rules: rules, Gates: access.Compile(rb),
		generation: &generation{Resolver: evidence.NewResolver(rb.Dict, rb.Policy), ruleKeys: rules.RuleKeys()},
		Search: rulebook.NewNames(rb.Dict, []rulebook.ExtraName{
			searchLevel:  {Name: "level", Title: "Level", Type: rb.LevelType},
			searchID:     {Name: "id", Title: "Id of the device", Type: value.Of(value.Text)},
			searchSeenAt: {Name: "seen_at", Title: "Time of the newest reading", Type: value.Of(value.Time)},
			searchSince:  {Name: "since", Title: "Time of the last change of level", Type: value.Of(value.Time)},
		}),
	}, nil
}

// renewed is the same book with a generation of its own: what is appraised under
// it is so with another directory or roster.
func (b *Book) renewed() *Book {
	next := *b
	next.generation = &generation{directories: b.directories + 1, Resolver: b.Resolver, ruleKeys: b.ruleKeys}
	return &next
}

// facts is what the house knows of a device beside what it was told.
func (snap *Snapshot) facts(d *Device, now int64) evidence.Facts {
	f := evidence.Facts{ID: d.ID, OnRoster: snap.Roster.Has(snap.telling(d.Keys)), Groups: snap.People.groupsOf}
	for _, v := range d.Vouches {
		if v.live(now) {
			f.Vouched = max(f.Vouched, v.Until)
		}
	}
	return f
}

// telling are those of a device's keys that say something.
func (snap *Snapshot) telling(keys []evidence.Key) []evidence.Key {
	if slices.ContainsFunc(keys, snap.Book.Resolver.Ignores) {
		return slices.DeleteFunc(slices.Clone(keys), snap.Book.Resolver.Ignores)
	}
	return keys
}

// find returns the device that a key points at.
func (snap *Snapshot) find(k evidence.Key) (string, bool) {
	if snap.Book.Resolver.Ignores(k) {
		return "", false
	}
	return snap.Fleet.Find(k)
}

// at brings a device to the moment now and under the snapshot's book, should
// that be another than the writer has come to.
func (snap *Snapshot) at(d *Device, now int64) *Device {
	if now < d.Wake && !snap.tried {
		return d
	}
	e := d.carried(d.under, snap.Book.generation)
	snap.appraise(e, &posture.Result{}, now)
	return e
}

// appraise makes a device's view, result and wake those of the moment now under
// the snapshot. r is room to work in.
func (snap *Snapshot) appraise(d *Device, r *posture.Result, now int64) *condition.Env {
	b := snap.Book
	d.refreshView(snap, now)
	env := d.View.Env(now)
	r.Recall(d.Result.Since)
	r.Waived, r.Outsider = b.waived(d.Waivers, now), d.outsider()
	b.Rules.Appraise(env, r)
	d.Wake, d.Result = b.Rules.Wake(env, d.View, r), b.compact(r)
	d.under = b.generation
	return env
}

// inherit takes over from an older book what means the same: how evidence
// resolves, or at least what is known of certificates.
func (b *Book) inherit(old *Book) {
	b.directories = old.directories
	if b.Resolver.Same(old.Resolver) {
		b.Resolver = old.Resolver
		return
	}
	b.Resolver.Inherit(old.Resolver)
}

// standing explains the standing of a device that is at the moment now.
func (b *Book) standing(d *Device, now int64) *posture.Standing {
	env := d.View.Env(now)
	return b.Rules.Explain(env, d.View, &d.Result)
}

// unheard is what stands between a device that was enrolled and never reported
// and any level: the cures of every rule that could be meant would be noise.
var unheard = access.Obstacle{Rule: "evidence", Title: "Something has been reported of the device",
	Verdict: posture.Unknown.String(),
	Why: []condition.Leaf{{Condition: "evidence", Path: "the evidence", Required: "a first report",
		Holds: condition.Unknown, Unknown: "never reported"}},
	Remedy: map[string]rulebook.Remedy{
		"en": {Title: "Let the device report",
			Steps: "Nothing is known of it yet. Open its management program or wait a few minutes, then check again."},
		"sv": {Title: "Låt enheten rapportera",
			Steps: "Inget är känt om den än. Öppna dess hanteringsprogram eller vänta några minuter och kontrollera sedan igen."},
	}}

func (b *Book) obstacles(d *Device, level rulebook.Level, now int64) []access.Obstacle {
	if len(d.Record.Readings()) == 0 {
		return []access.Obstacle{unheard}
	}
	env := d.View.Env(now)
	return rehearsal.Obstacles(b.Rules.Holding(env, d.View, &d.Result, level))
}

// Draft is a rulebook that somebody wants published.
type Draft struct {
	Files   []rulebook.File `json:"files"`
	Message string          `json:"message"`
	// Base is the version the author started from; nil to publish over whatever
	// is in force.
	Base *int64 `json:"base,omitempty"`
	// AcceptImpact is why the draft is to be published although it would lock
	// people out; "" when it is not.
	AcceptImpact string `json:"accept_impact,omitempty"`
}

// ConflictError says that another version was published in between.
type ConflictError struct{ Base, Current int64 }

func (e *ConflictError) Error() string {
	return fmt.Sprintf("version %d is in force, not %d that this change started from", e.Current, e.Base)
}

// Digest is the SHA-256 of a rulebook's files, in hex.
func Digest(files []rulebook.File) string {
	h := sha256.New()
	for _, f := range files {
		fmt.Fprintf(h, "%d:%s%d:%s", len(f.Name), f.Name, len(f.Text), f.Text)
	}
	return hex.EncodeToString(h.Sum(nil))
}

// ExampleError says that a rulebook's own examples do not come out as they must.
type ExampleError struct{ Failed []rehearsal.Outcome }

func (e *ExampleError) Error() string {
	parts := make([]string, len(e.Failed))
	for i, o := range e.Failed {
		parts[i] = fmt.Sprintf("%s:%d: %s: want %s, got %s", o.File, o.Line, o.Title, o.Want, o.Got)
	}
	return "examples fail: " + strings.Join(parts, "; ")
}

// Publish puts a rulebook in force: the whole fleet is appraised under it, and
// the version, every change of standing and the new state become durable
// together. The error is [rulebook.Problems], an [*ExampleError], an
// [*ImpactError] or a [*ConflictError] when the draft is to blame; then nothing has changed.
func (s *Service) Publish(ctx context.Context, actor string, draft Draft) (*store.Rulebook, int, error) {
	files := slices.Clone(draft.Files)
	slices.SortFunc(files, func(a, b rulebook.File) int { return strings.Compare(a.Name, b.Name) })
	book, err := compileBook(&store.Rulebook{Author: actor, Message: draft.Message, Digest: Digest(files),
		Files: files})
	if err != nil {
		return nil, 0, err
	}
	outcomes := rehearsal.Examples(book.Rulebook, s.micros())
	if failed := slices.DeleteFunc(outcomes, func(o rehearsal.Outcome) bool { return o.Passed }); len(failed) > 0 {
		return nil, 0, &ExampleError{failed}
	}
	var impacts []Impact
	changed := 0
	weigh := func(snap *Snapshot) (err error) {
		if draft.Base != nil && *draft.Base != snap.Book.Info.Version {
			return &ConflictError{*draft.Base, snap.Book.Info.Version}
		}
		book.inherit(snap.Book)
		if impacts, err = s.guard(ctx, snap, snap.tryOut(book, snap.People, snap.Roster), nil); err != nil {
			return err
		}
		if len(impacts) > 0 && strings.TrimSpace(draft.AcceptImpact) == "" {
			return &ImpactError{impacts}
		}
		return nil
	}
	err = s.weighed(ctx, weigh, func(c *change) error {
		book.Info.Version, book.Info.At = c.base.Book.Info.Version+1, c.now
		if err := c.batch.PutRulebook(&book.Info); err != nil {
			return err
		}
		c.record(actor, &event.RulebookPublished{Version: book.Info.Version, Digest: book.Info.Digest,
			Message: event.Clipped(draft.Message, maxReason),
			Name:    book.Rulebook.Name, Accepted: event.Accept(impacts, draft.AcceptImpact)})
		changed = c.rebuild(book, c.base.People, c.base.Roster,
			cause{kind: event.ByRulebook, actor: actor}, c.base.Fleet.list())
		return nil
	})
	if err != nil {
		return nil, 0, err
	}
	s.log.Info("rulebook published", "version", book.Info.Version, "by", actor, "moved", changed)
	return &book.Info, changed, nil
}

// rebuild makes another book, directory or roster the next snapshot, and appraises
// under it the devices for which it could make a difference. It returns how many
// changed level. The work is shared among the cores.
func (c *change) rebuild(book *Book, people *People, roster *Roster, by cause, devices []*Device) int {
	next := *c.base
	next.Book, next.People, next.Roster = book, people, roster
	c.next, c.rebuiltBy = &next, by
	workers := min(runtime.GOMAXPROCS(0), 1+len(devices)/512)
	parts := make([]rebuilt, workers)
	var wg sync.WaitGroup
	for w := range parts {
		wg.Go(func() {
			parts[w].run(c, by, devices[w*len(devices)/workers:(w+1)*len(devices)/workers])
		})
	}
	wg.Wait()
	moved := 0
	for _, p := range parts {
		moved += p.moved
		c.batch.Entries = append(c.batch.Entries, p.entries...)
		c.batch.Devices = append(c.batch.Devices, p.rows...)
	}
	c.rebuilt = parts
	return moved
}

// rebuilt is a part of a fleet appraised under another book.
type rebuilt struct {
	devices []*Device
	entries []ledger.Entry
	rows    []store.DeviceRow
	moved   int
	warmed  int64 // keeps the reading ahead from being left out
}

func (p *rebuilt) run(c *change, by cause, devices []*Device) {
	next := c.next
	old, book := c.base.Book, next.Book
	// The views, and the truth of checks that both books have, hold as they are
	// when evidence means the same under both.
	keep := next.People == c.base.People && next.Roster == c.base.Roster && book.Resolver == old.Resolver
	comparable := slices.Equal(old.Rulebook.Ladder, book.Rulebook.Ladder) && slices.Equal(old.ruleKeys,
		book.ruleKeys)
	carry := book.Rules.Carry(old.Rules)
	var r posture.Result
	env := &condition.Env{Now: c.now}
	for i, d := range devices {
		if keep && i%warmth == 0 {
			p.warm(carry, devices[i:min(len(devices), i+warmth)])
		}
		current := keep && c.now < d.Wake // its verdicts and its view are those of this moment
		e := d
		if !current || !comparable {
			e = d.carried(old.generation, book.generation)
			e.refreshView(next, c.now)
		}
		env.Frames[evidence.DeviceFrame] = e.frame
		r.Recall(e.Result.Since)
		r.Waived, r.Outsider = book.waived(d.Waivers, c.now), d.outsider()
		wake := int64(0)
		if current {
			book.Rules.AppraiseFrom(env, &r, carry, d.Result.Verdicts)
			wake = book.Rules.WakeFrom(env, &r, carry, d.Wake)
		} else {
			book.Rules.Appraise(env, &r)
			wake = book.Rules.Wake(env, e.View, &r)
		}
		if current && comparable && wake == d.Wake && d.unmoved(&r) {
			continue
		}
		if e == d {
			e = d.copied()
		}
		e.Wake, e.Result = wake, book.compact(&r)
		e.under = book.generation
		was := stood(old, d)
		entry, changed := next.standingEntry(e, was, by, env)
		if entry.Kind != "" {
			p.entries = append(p.entries, entry)
		}
		if was.level != book.Rulebook.LevelName(e.Result.Level) {
			p.moved++
		}
		if changed {
			p.rows = append(p.rows, e.row(book, was, c.now))
		}
		p.devices = append(p.devices, e)
	}
}

// warmth is how many devices are fetched from memory together: a fleet is far
// larger than the caches, and waiting for it piece by piece takes most of the time.
const warmth = 16

func (p *rebuilt) warm(carry *posture.Carry, devices []*Device) {
	var frames [warmth]*condition.Frame
	for i, d := range devices {
		frames[i] = &d.frame
		p.warmed += d.Wake + int64(d.Result.Level)
	}
	for _, f := range frames[:len(devices)] {
		p.warmed += carry.Warm(*f)
	}
}

// unmoved reports whether a result says the same as the one kept.
func (d *Device) unmoved(r *posture.Result) bool {
	if r.Level != d.Result.Level || r.Outsider != d.Result.Outsider || r.Shadow != d.Result.Shadow ||
		r.Covered != d.Result.Covered || !slices.Equal(r.Verdicts, d.Result.Verdicts) ||
		!slices.Equal(r.Waived, d.Result.Waived) {
		return false
	}
	if d.Result.Since == nil {
		return !r.Remembers()
	}
	return slices.Equal(r.Since, d.Result.Since)
}

// carried copies a device for being appraised under another book: failures
// that are remembered go along with their rules, and the view where evidence
// resolves the same.
func (d *Device) carried(from, to *generation) *Device {
	e := d.copied()
	if from == to {
		return e
	}
	if from.Resolver != to.Resolver || from.directories != to.directories {
		e.View = nil
	}
	e.Result = posture.Result{}
	if d.Result.Since != nil {
		e.Result.Since = to.since(from.failing(d.Result.Since))
	}
	return e
}

// History lists the published versions, newest first.
func (s *Service) History(ctx context.Context) ([]store.Rulebook, error) {
	return s.store.Rulebooks(ctx)
}

// Version reads one published version; 0 is the one in force.
func (s *Service) Version(ctx context.Context, version int64) (*store.Rulebook, error) {
	return s.store.Rulebook(ctx, version)
}

// Vocabulary is what a condition or a question may speak of.
type Vocabulary struct {
	Ladder     []string            `json:"ladder"`
	Names      []VocabularyName    `json:"names"`
	Resources  []rulebook.Resource `json:"resources"`
	Places     []string            `json:"places"`
	BreakGlass []string            `json:"break_glass"`
}

// VocabularyName is a name with its type.
type VocabularyName struct {
	Name  string   `json:"name"`
	Title string   `json:"title"`
	Type  string   `json:"type"`
	Words []string `json:"words,omitempty"`
}

// Vocabulary lists the names of the rulebook in force that a search may use.
func (s *Service) Vocabulary() *Vocabulary {
	rb := s.Snapshot().Book.Rulebook
	v := &Vocabulary{Ladder: rb.Ladder, Resources: rb.Resources, BreakGlass: rb.BreakGlass,
		Places: []string{}, Names: []VocabularyName{}}
	for _, p := range rb.Places {
		v.Places = append(v.Places, p.ID)
	}
	add := func(name, title string, t value.Type) {
		n := VocabularyName{Name: name, Title: title, Type: t.String()}
		if t.Kind == value.Enum {
			n.Type, n.Words = "enum", t.Enum.Words
		}
		v.Names = append(v.Names, n)
	}
	for _, x := range s.Snapshot().Book.Search.Extra() {
		add(x.Name, x.Title, x.Type)
	}
	for _, a := range rb.Dict.Attributes() {
		add(a.Name, a.Title, a.Type)
	}
	if v.Resources == nil {
		v.Resources = []rulebook.Resource{}
	}
	if v.BreakGlass == nil {
		v.BreakGlass = []string{}
	}
	return v
}
