package event

import (
	"strings"

	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
)

// The causes of a standing that changed.
const (
	ByEvidence  = "evidence"
	ByTime      = "time"
	ByRulebook  = "rulebook"
	ByPeople    = "people"
	ByRoster    = "roster"
	ByWaiver    = "waiver"
	ByVouch     = "vouch"
	ByRestart   = "restart"
	BySettling  = "settling"
	ByEnrolment = "enrolment"
	ByTags      = "tags"
	ByOrder     = "quarantine" // a person's, or its end
)

// StandingChanged is a level or a verdict that changed, with what made it change.
type StandingChanged struct {
	Device   string           `json:"device"`
	From     string           `json:"from,omitempty"` // "" for a device not seen before
	To       string           `json:"to"`
	Shadow   string           `json:"shadow,omitempty"` // the level with shadow baselines, where it differs
	Binding  []string         `json:"binding"`
	Changed  []VerdictChange  `json:"changed,omitempty"`
	Evidence []EvidenceChange `json:"evidence,omitempty"`
	Cause    string           `json:"cause"`
	Rulebook int64            `json:"rulebook"`
	// Outsider says that it is no known device: it is held or refused at enrolment, or retired.
	Outsider bool `json:"outsider,omitempty"`
	// Verdicts are all verdicts, as [posture.Letters] writes them in the order of the rulebook's rules: of a device
	// that was not seen before, and where it cannot be told which verdicts changed.
	Verdicts string `json:"verdicts,omitempty"`
}

// VerdictChange is a rule whose verdict changed.
type VerdictChange struct {
	From posture.Verdict `json:"from"`
	Rule string          `json:"rule"`
	To   posture.Verdict `json:"to"`
	Why  string          `json:"why,omitempty"`
}

// EvidenceChange is a reading that a report changed.
type EvidenceChange struct {
	Attribute string `json:"attribute"`
	From      string `json:"from,omitempty"`
	Source    string `json:"source"`
	To        string `json:"to"`
}

// maxBinding bounds how many rules are named of a standing too large to record.
const maxBinding = 50

// Kind is [ledger.StandingChanged].
func (*StandingChanged) Kind() ledger.Kind { return ledger.StandingChanged }

// About is the device.
func (s *StandingChanged) About() string { return s.Device }

// AppendBody appends the body. It is the commonest entry of all: an import writes
// one a device. When hundreds of rules changed at once it leaves out which.
func (s *StandingChanged) AppendBody(b []byte) []byte {
	begin := len(b)
	if b = s.append(b); len(b)-begin > MaxBody {
		short := *s
		short.Changed, short.Evidence, short.Binding = nil, nil, s.Binding[:min(len(s.Binding), maxBinding)]
		b = short.append(b[:begin])
	}
	return b
}

func (s *StandingChanged) append(b []byte) []byte {
	o := value.Object(b).Open().Texts("binding", s.Binding).Text("cause", s.Cause)
	if len(s.Changed) > 0 {
		o = o.List("changed")
		for _, c := range s.Changed {
			o = o.Element().Open().Text("from", c.From.String()).Text("rule", c.Rule).Text("to",
				c.To.String()).Word("why", c.Why).Close()
		}
		o = o.EndList()
	}
	o = o.Text("device", s.Device)
	if len(s.Evidence) > 0 {
		o = o.List("evidence")
		for _, c := range s.Evidence {
			o = o.Element().Open().Text("attribute", c.Attribute).Word("from", c.From).Text("source",
				c.Source).Text("to", c.To).Close()
		}
		o = o.EndList()
	}
	o = o.Word("from", s.From).Flag("outsider", s.Outsider).Number("rulebook", s.Rulebook)
	return o.Word("shadow", s.Shadow).Text("to", s.To).Word("verdicts", s.Verdicts).Close()
}

// Gist tells the way, and what binds.
func (s *StandingChanged) Gist() string {
	text := s.From + " → " + s.To
	switch s.From {
	case "":
		text = "first seen: " + s.To
	case s.To:
		text = "stays " + s.To
	}
	if len(s.Binding) > 0 {
		text += ", by " + strings.Join(s.Binding, ", ")
	}
	return text
}

// maxEvidenceChanges bounds what one entry tells of a report, and maxTold what it tells of a value, in bytes.
const (
	maxEvidenceChanges = 24
	maxTold            = 300
)

// EvidenceChanges tells what a report changes in a record.
func EvidenceChanges(old *evidence.Record, rep *evidence.Report) []EvidenceChange {
	was, since := map[string]string{}, map[string]int64{}
	for r := range old.All() {
		if r.Source == rep.Source {
			was[r.Name], since[r.Name] = ReadingText(r), r.At
		}
	}
	var out []EvidenceChange
	for _, r := range rep.Readings {
		if at, known := since[r.Name]; known && r.At < at { // the record knows better
			continue
		}
		if text := ReadingText(r); text != was[r.Name] && len(out) < maxEvidenceChanges {
			out = append(out, EvidenceChange{Attribute: r.Name, From: Clipped(was[r.Name], maxTold), Source: r.Source,
				To: Clipped(text, maxTold)})
		}
	}
	return out
}

// ReadingText tells a reading in a few words.
func ReadingText(r evidence.Reading) string {
	if !r.Value.Known() {
		return "unavailable: " + r.Unavailable
	}
	return r.Value.String()
}
