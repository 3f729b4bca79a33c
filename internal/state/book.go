package state

import (
	"crypto/x509"
	"slices"

	"ironledger.example/core/access"
	"ironledger.example/core/certificate"
	"ironledger.example/core/evidence"
	"ironledger.example/core/posture"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/interned"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/store"
)

// Book is a published rulebook, compiled.
type Book struct {
	Info     store.Rulebook // version 0: nothing has been published
	Rulebook *rulebook.Rulebook
	Rules    *posture.Program
	Gates    *access.Program
	Search   *rulebook.Names // the names that a search of devices may use
	Strict   map[string]bool // rules that nobody can be excepted from
	Approve  map[string]bool // rules of which a waiver needs a second person

	anchors []*x509.Certificate // of our own authority, in force or former
	*generation
}

// generation is what has to be known of the book under which a device was
// appraised. It outlives the book.
type generation struct {
	directories uint64 // counts what the directory and the roster were, which views hold
	Resolver    *evidence.Resolver
	RuleKeys    []string
	verdicts    interned.Lists[posture.Verdict] // of devices: most of a fleet passes the same rules
}

// The slots of the names that a search may use beside the attributes.
const (
	SearchLevel = iota
	SearchID
	SearchSeenAt
	SearchSince
	SearchQuarantined
	SearchRetired
)

// emptyRulebook is in force until one is published: no device is covered and
// every request is denied.
const emptyRulebook = "rulebook: none\n"

// EmptyBook is in force until a rulebook is published.
func EmptyBook() *Book {
	b, err := CompileBook(&store.Rulebook{Files: []rulebook.File{{Name: "none.yaml", Text: emptyRulebook}}})
	if err != nil {
		panic(err) // a constant
	}
	return b
}

// CompileBook compiles a published rulebook, or one that may be. The error is
// [rulebook.Problems].
func CompileBook(kept *store.Rulebook) (*Book, error) {
	rb, err := rulebook.Load(kept.Files)
	if err != nil {
		return nil, err
	}
	rules, strict, approve := posture.Compile(rb), map[string]bool{}, map[string]bool{}
	for _, b := range rb.Baselines {
		for _, r := range b.Rules {
			if r.Strict {
				strict[b.ID+"/"+r.ID] = true
			}
			if slices.Contains(rb.ApproveWaivers, r.Cap) {
				approve[b.ID+"/"+r.ID] = true
			}
		}
	}
	return &Book{
		Strict: strict, Approve: approve,
		Info: *kept, Rulebook: rb, Rules: rules, Gates: access.Compile(rb),
		generation: &generation{Resolver: evidence.NewResolver(rb.Dict, rb.Policy), RuleKeys: rules.RuleKeys()},
		Search: rulebook.NewNames(rb.Dict, []rulebook.ExtraName{
			SearchLevel:       {Name: "level", Title: "Level", Type: rb.LevelType},
			SearchID:          {Name: "id", Title: "Id of the device", Type: value.Of(value.Text)},
			SearchSeenAt:      {Name: "seen_at", Title: "Time of the newest reading", Type: value.Of(value.Time)},
			SearchSince:       {Name: "since", Title: "Time of the last change of level", Type: value.Of(value.Time)},
			SearchQuarantined: {Name: "quarantined", Title: "In quarantine", Type: value.Of(value.Bool)},
			SearchRetired:     {Name: "retired", Title: "Out of service", Type: value.Of(value.Bool)},
		}),
	}, nil
}

// renewed is the same book with a generation of its own: what is appraised under
// it is so with another directory or roster.
func (b *Book) renewed() *Book {
	next := *b
	next.generation = &generation{directories: b.directories + 1, Resolver: b.Resolver, RuleKeys: b.RuleKeys}
	return &next
}

// Inherit takes over from an older book what means the same: how evidence
// resolves, or at least what is known of certificates.
func (b *Book) Inherit(old *Book) {
	b.Anchor(old.anchors)
	b.directories = old.directories
	if b.Resolver.Same(old.Resolver) {
		b.Resolver = old.Resolver
		return
	}
	b.Resolver.Inherit(old.Resolver)
}

// Anchor makes certificates that our own authority issued count, if the rulebook has one: those that chain to its
// anchors and that it knows of.
func (b *Book) Anchor(anchors []*x509.Certificate) {
	if slices.EqualFunc(b.anchors, anchors, (*x509.Certificate).Equal) {
		return
	}
	b.anchors = anchors
	b.generation = &generation{directories: b.directories + 1, Resolver: evidence.NewResolver(b.Rulebook.Dict,
		b.policy()),
		RuleKeys: b.RuleKeys}
}

// policy is what the rulebook says about evidence, and that we believe our own authority.
func (b *Book) policy() evidence.Policy {
	p := b.Rulebook.Policy
	if a := b.Rulebook.Authority; a != nil && len(b.anchors) > 0 {
		p.Issuers = append(slices.Clip(p.Issuers),
			certificate.Issuer{ID: a.ID, Certificates: b.anchors, Binds: certificate.ByID, Own: true})
	}
	return p
}

// Anchors are the certificates of our own authority that certificates of devices chain to.
func (b *Book) Anchors() []*x509.Certificate { return b.anchors }

// waived lays out, in the order of the book's rules, until when each is waived
// at now; nil when none is.
func (b *Book) waived(waivers []*Waiver, now int64) []int64 {
	var out []int64
	for _, w := range waivers {
		c := b.Limited(w)
		if i := slices.Index(b.RuleKeys, w.Rule); c.Live(now) && i >= 0 && !b.Strict[w.Rule] {
			if out == nil {
				out = make([]int64, len(b.RuleKeys))
			}
			out[i] = max(out[i], c.Until())
		}
	}
	return out
}

// Limited is a waiver as far as the rulebook lets it count: a limit that was lowered since holds for it too, and so
// does that a second person has to approve it.
func (b *Book) Limited(w *Waiver) *kept.Counting {
	c := kept.CountingOf(w, w.At+b.LongestWaiver(bearer.Role(w.Role)), b.Approve[w.Rule])
	return &c
}

// LongestWaiver is how long a waiver may live that somebody of a role grants, in microseconds.
func (b *Book) LongestWaiver(by bearer.Role) int64 {
	if limit := b.Rulebook.HelpdeskWaiver; limit > 0 && by == bearer.Helpdesk {
		return limit
	}
	return b.Rulebook.MaxWaiver
}

// Publish puts a book in force, which was compiled from what a draft brings: the
// whole fleet is appraised under it. It returns how many devices changed level.
func (c *Change) Publish(book *Book, by Cause) (moved int, err error) {
	book.Anchor(c.Base.Book.anchors)
	book.Info.Version, book.Info.At = c.Base.Book.Info.Version+1, c.Now
	if err := c.Batch.PutRulebook(&book.Info); err != nil {
		return 0, err
	}
	moved = c.rebuild(book, c.Base.People, c.Base.Roster, by, c.Base.Fleet.list())
	c.House.Everybody = true
	return moved, nil
}
