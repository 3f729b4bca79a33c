package rulebook

import (
	"regexp"
	"slices"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/rulebook/plaintext"
	"ironledger.example/core/rulebook/tree"
	"ironledger.example/core/value"
)

// Occasion is what a notice is about.
type Occasion string

// The occasions of notices.
const (
	Fell            Occasion = "fell"             // a device's level is lower than before
	Rose            Occasion = "rose"             // it is higher
	GraceEnds       Occasion = "grace-ends"       // a rule that fails will bite
	WaiverEnds      Occasion = "waiver-ends"      // an exception will end
	CertificateEnds Occasion = "certificate-ends" // a trusted certificate of a device will
	BreakGlass      Occasion = "break-glass"      // an account for emergencies was used
	SourceQuiet     Occasion = "source-quiet"     // a source reports nothing any more
	EnrolmentWaits  Occasion = "enrolment-waits"  // a person must decide whether a device comes in
	ReportMade      Occasion = "report-made"      // a report of the rulebook was made
)

// Occasions are those that the notices of a rulebook name. Who gets a report stands with it.
var Occasions = []Occasion{Fell, Rose, GraceEnds, WaiverEnds, CertificateEnds, BreakGlass, SourceQuiet,
	EnrolmentWaits}

// OfDevice reports whether it is about a device, which may have an owner.
func (o Occasion) OfDevice() bool {
	return o != BreakGlass && o != SourceQuiet && o != EnrolmentWaits && o != ReportMade
}

// Coming reports whether it is told of before it happens.
func (o Occasion) Coming() bool { return o == GraceEnds || o == WaiverEnds || o == CertificateEnds }

// Reminder reports whether a person may have it no more: what has not happened yet, or
// is good.
func (o Occasion) Reminder() bool { return o.Coming() || o == Rose }

// DefaultBefore is how long before something ends it is told of, in microseconds: two days.
const DefaultBefore = 2 * value.Day

// Recipient is who hears: one of the three.
type Recipient struct {
	Owner bool
	Mail  string // an address
	Hook  string // a receiver in signals, told by CloudEvents
}

// String is the recipient as a rulebook has it.
func (r Recipient) String() string {
	switch {
	case r.Owner:
		return "owner"
	case r.Mail != "":
		return r.Mail
	}
	return "hook " + r.Hook
}

// Notice says who is told of what.
type Notice struct {
	Where    Position
	ID       string
	On       Occasion
	When     *condition.Program // over ChangeSlots; nil for each occasion
	Before   int64              // of what is coming, in microseconds
	To       Recipient
	Language string // "" for that of the person
	Report   string // of the rulebook, that it sends
}

// Notice is the one of an id, nil for none.
func (rb *Rulebook) Notice(id string) *Notice {
	if i := slices.IndexFunc(rb.Notices, func(n Notice) bool { return n.ID == id }); i >= 0 {
		return &rb.Notices[i]
	}
	return nil
}

func (l *loader) notices() {
	seen, names := unique{}, newChangeNames(l.rb.Dict, l.rb.LevelType)
	words := make([]string, len(Occasions))
	for i, o := range Occasions {
		words[i] = string(o)
	}
	for _, it := range l.members("notices") {
		n := Notice{Where: it.Position()}
		said := map[string]tree.Field{}
		mark := func(read func(tree.Field)) func(tree.Field) { return func(f tree.Field) { said[f.Key] = f; read(f) } }
		ok := it.Mapping("a notice", map[string]func(tree.Field){
			"id":       func(f tree.Field) { f.ID(&n.ID) },
			"on":       mark(func(f tree.Field) { i, _ := f.Word("occasion", words); n.On = Occasions[max(i, 0)] }),
			"when":     mark(func(f tree.Field) { n.When = f.Condition(names) }),
			"before":   mark(func(f tree.Field) { f.Duration(&n.Before) }),
			"to":       mark(func(f tree.Field) { l.recipient(f, &n.To) }),
			"language": func(f tree.Field) { language(f.Item, &n.Language) },
		})
		if !ok || !l.named(it, "a notice", n.ID) || !seen.add(it, "notices", n.ID) {
			continue
		}
		for _, key := range []string{"on", "to"} {
			if _, is := said[key]; !is {
				it.Fail("the notice %s needs %s", n.ID, key)
			}
		}
		l.fitting(&n, said)
		if n.On.Coming() && n.Before == 0 {
			n.Before = DefaultBefore
		}
		l.rb.Notices = append(l.rb.Notices, n)
	}
}

// fitting finds what does not go with the occasion of a notice.
func (l *loader) fitting(n *Notice, said map[string]tree.Field) {
	switch f, is := said["before"]; {
	case is && !n.On.Coming():
		f.KeyAt.Fail("%s is told of when it happens; before goes with grace-ends, waiver-ends and "+
			"certificate-ends", n.On)
	case is && n.Before <= 0:
		f.Fail("before is a duration, as 2d")
	}
	if f, is := said["when"]; is && !n.On.OfDevice() {
		f.KeyAt.Fail("%s is about no device that a condition could look at", n.On)
	}
	if f, is := said["to"]; is && n.To.Owner && !n.On.OfDevice() {
		f.Fail("%s is about no device, so that there is no owner; write {mail: …} or {hook: …}", n.On)
	}
}

// recipient reads owner, {mail: …} or {hook: …}.
func (l *loader) recipient(f tree.Field, r *Recipient) {
	if !f.IsMapping() {
		if i, ok := f.Word("recipient", []string{"owner"}); ok && i == 0 {
			r.Owner = true
		}
		return
	}
	f.Mapping("a recipient", map[string]func(tree.Field){
		"mail": func(f tree.Field) { f.Text(&r.Mail); address(f.Item, r.Mail) },
		"hook": func(f tree.Field) {
			f.Text(&r.Hook)
			if x := l.rb.Signals.Receiver(r.Hook); x == nil {
				f.Fail("signals has no receiver %s", r.Hook)
			} else if x.Form != CloudForm {
				f.Fail("%s is told by %s; a notice needs a receiver with form: %s", r.Hook, x.Form, CloudForm)
			}
		},
	})
	if (r.Mail == "") == (r.Hook == "") {
		f.Fail("a notice goes to owner, {mail: …} or {hook: …}")
	}
}

// mailAddress is what an address of mail looks like, without the rare forms of RFC 5322.
var mailAddress = regexp.MustCompile(`^[A-Za-z0-9.!#$%&'*+/=?^_{|}~-]{1,64}@[A-Za-z0-9]([A-Za-z0-9.-]{0,250}[A-Za-z0-9])?$`)

// IsMailAddress reports whether mail can be sent to a text.
func IsMailAddress(text string) bool {
	return mailAddress.MatchString(text) && !strings.Contains(text, "..")
}

func address(it tree.Item, text string) {
	if !IsMailAddress(text) {
		it.Fail("%q is not an address of mail, as watch@gullholm.example", text)
	}
}

func language(it tree.Item, into *string) {
	it.Text(into)
	if !plaintext.LanguageTag.MatchString(*into) {
		it.Fail("%q is not a language tag such as en or sv", *into)
	}
}
