// Package rulebook reads the document that holds everything an administrator
// decides, checks all of it, and compiles its conditions.
//
// [Load] takes the files of a rulebook and gives either a [Rulebook], which is
// right in every reference and type, or [Problems] with every error found and
// where it stands. Nothing here reads a disk or a clock.
package rulebook

import (
	"net/netip"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/control"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/core/rulebook/tree"
	"ironledger.example/core/value"
)

// Mode says how far a baseline or a gate counts.
type Mode string

// The Modes: a draft is ignored, a shadow is worked out and recorded but has
// no effect, and what is enforced counts.
const (
	Draft   Mode = "draft"
	Shadow  Mode = "shadow"
	Enforce Mode = "enforce"
)

// Level is a place on the ladder, 0 the lowest.
type Level int

// Rulebook is a checked and compiled rulebook. It is immutable.
type Rulebook struct {
	Name      string
	Ladder    []string          // lowest first
	Renamed   map[string]string // to what levels are called now, by what they were called before
	LevelType value.Type
	Uncovered Level // of a device that no enforced baseline applies to
	Unmatched bool  // whether a request that no enforced gate matches is allowed
	// UnknownPeople is whether gates are asked about people whom the directory does
	// not know; else these are denied.
	UnknownPeople bool
	Policy        evidence.Policy
	Dict          *evidence.Dictionary // the attributes of a device
	Names         *Names               // the same and those of a request
	Places        []Place
	BreakGlass    []string
	MaxWaiver     int64 // how long a waiver may live, in microseconds
	// HelpdeskWaiver is how long one may live that the help desk granted, in microseconds; 0: as any other.
	HelpdeskWaiver int64
	// ApproveWaivers are the levels for which a waiver of a rule that caps there counts only once a second
	// person has approved it.
	ApproveWaivers []Level
	// KeepRetired is how long what is known of a retired device is kept, in microseconds; 0: until somebody purges it.
	KeepRetired int64
	Guard       Guard
	Enrolment   Enrolment
	Resources   []Resource
	Signals     Signals
	Heard       []Heard // by source
	Notices     []Notice
	Controls    control.Catalogue
	Reports     []Report
	Authority   *Authority // nil: we issue no certificates
	Baselines   []Baseline
	Gates       []Gate // in the order of their numbers, those without one last
	Networks    []Network
	Examples    []Example
}

// LevelName returns the word for a level.
func (rb *Rulebook) LevelName(l Level) string { return rb.Ladder[l] }

// Rank returns the place of a level's word on the ladder.
func (rb *Rulebook) Rank(level string) (int, bool) {
	i := slices.Index(rb.Ladder, level)
	return i, i >= 0
}

// Called is what a level of another rulebook is called by this one.
func (rb *Rulebook) Called(level string) string {
	if _, is := rb.Rank(level); !is && rb.Renamed[level] != "" {
		return rb.Renamed[level]
	}
	return level
}

// Rule finds a rule by its key, baseline/rule; nil for none.
func (rb *Rulebook) Rule(key string) *Rule {
	baseline, id, _ := strings.Cut(key, "/")
	for i := range rb.Baselines {
		if rb.Baselines[i].ID != baseline {
			continue
		}
		for j := range rb.Baselines[i].Rules {
			if rb.Baselines[i].Rules[j].ID == id {
				return &rb.Baselines[i].Rules[j]
			}
		}
	}
	return nil
}

// Top is the highest level.
func (rb *Rulebook) Top() Level { return Level(len(rb.Ladder) - 1) }

// LevelValue returns a level as a value of conditions.
func (rb *Rulebook) LevelValue(l Level) value.Value {
	return value.OfEnum(rb.LevelType.Enum, int(l))
}

// Place is a named set of networks or countries.
type Place struct {
	ID        string
	Networks  []netip.Prefix
	Countries []string // ISO 3166-1 alpha-2, upper case
}

// Resource is something that gates guard.
type Resource struct {
	ID    string   `json:"id"`
	Title string   `json:"title,omitempty"`
	Tags  []string `json:"tags,omitempty"`
	URL   string   `json:"url,omitempty"`
}

// Baseline is a set of rules for the devices its Applies selects.
type Baseline struct {
	Where   Position
	ID      string
	Title   string
	Mode    Mode
	Applies *condition.Program
	Rules   []Rule
	// Controls are those that all of its rules serve.
	Controls []string
}

// Rule is one requirement and what failing it means.
type Rule struct {
	Where   Position
	ID      string
	Title   string
	Checks  map[string]*condition.Program // by platform; "" serves all the others
	Cap     Level
	Unknown Level // the cap while the check is unknown
	Grace   int64 // microseconds
	// Strict says that nobody can except a device from it.
	Strict bool
	Remedy map[string]plaintext.Remedy
	// Controls are those that it serves beside those of its baseline.
	Controls []string
}

// Check returns the check for a platform, or nil when the rule has none.
func (r *Rule) Check(platform string) *condition.Program {
	if c, ok := r.Checks[platform]; ok {
		return c
	}
	return r.Checks[""]
}

// Gate is one access rule.
type Gate struct {
	Where    Position
	ID       string
	Number   int // 0: none
	Title    string
	Mode     Mode
	Who      Who
	What     What
	When     *condition.Program // nil: always
	Need     *condition.Program
	StepUp   bool              // otherwise: step-up, not deny
	Message  map[string]string // by language
	ValidFor int64             // microseconds
	Controls []string          // that it serves
}

// Who says whom a gate is about.
type Who struct {
	Everyone                  bool
	Users, Groups             []string
	ExceptUsers, ExceptGroups []string
}

// What says what a gate is about.
type What struct {
	Everything                  bool
	Resources, Tags, Actions    []string
	ExceptResources, ExceptTags []string
}

// Example is a small case with the outcome it must have.
type Example struct {
	Title    string
	Where    Position
	Device   *ExampleDevice // nil: an unknown device
	Level    string         // the level it must have, or ""
	Outcome  string         // allow, deny or step-up, or ""
	User     string
	Groups   []string
	Stranger bool // the directory does not know the user
	Resource string
	Action   string
	IP       string
	Country  string
	MFA      *bool
	Methods  []string    // nil: not said
	AuthAt   tree.Moment // nil: not said
	// Certificate is whether the connection proved possession of a trusted certificate; nil: not said.
	Certificate        *bool
	CertificateProfile string
	CertificateAt      tree.Moment // nil: not said
	Proof              string      // one of Proofs; "": not said
	Grant              string      // the id of the grant that the admission must carry, or ""
	At                 int64       // microseconds; 0 means now
}

// What is read of YAML is read by package tree, in whose words a rulebook tells its mistakes.
type (
	Position = tree.Position
	Problem  = tree.Problem
	Problems = tree.Problems
)
