package event

import (
	"encoding/json"
	"reflect"
	"slices"
	"strings"
	"testing"

	"ironledger.example/core/access"
	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
	"ironledger.example/core/value"
)

const odd = "a\"b\\c <å> \u2028 & \x01"

// one of each kind, with something in every member.
func oneOfEach() []Event {
	impacts := Accept([]Impact{{Kind: "denies-many", Message: odd, Who: []string{"maren", "joris"}}}, odd)
	exception := Exception{ID: "w-1", Device: "d", Rule: "laptop/os", Reason: odd, Author: "astrid",
		At: "2026-11-20T08:00:00Z", Until: "2026-11-21T08:00:00Z",
		State: "live", RevokedAt: "2026-11-20T09:00:00Z", RevokedBy: "joris", Revoked: odd, Verdict: "waived",
		ApprovedBy: "runar", ApprovedAt: "2026-11-20T08:30:00Z", Approved: odd, Warning: odd}
	enrolment := Enrolment{ID: "e", At: 1_763_625_600_123_456, Actor: "desk", OnRoster: true, Proven: true,
		State: "held", Why: odd, Device: "d", DecidedAt: 3, DecidedBy: "b", Reason: odd,
		Claims: Claims{Serial: "s", HardwareID: "h", ID: "i", Platform: "p", Form: "f", Model: "m",
			Vendor: "v", Name: odd, Ownership: "o", Owner: "w", Certificate: "c"}}
	keys := []evidence.Key{{Kind: evidence.BySerial, Text: odd}, {Kind: evidence.ByExternal, Text: "mdm:1"}}
	return []Event{
		&StreamChanged{Stream: "st-1", Receiver: "idp", Change: "status", Endpoint: "https://idp.gullholm.example/events",
			Events: []string{"session-revoked"}, Subject: "+ device d-1", Status: "paused", Letters: 3, Reason: odd},
		&NoticeSent{Message: "m", Notice: "n", On: "fell", What: "d", Detail: odd, To: odd, Via: ViaMail,
			Subject: odd, Text: odd},
		&FeedChanged{Feed: "fleet", Source: "mdm", Change: FeedGone, Where: "https://x.example", Status: "paused",
			Secret:  true,
			Devices: 2, Some: []string{"d-1", odd}, Reason: odd},
		&SignalReceived{Source: "sensor", Issuer: "https://x.example", JTI: odd, Event: "session-revoked",
			Device: "d-1", Person: "ada",
			Reason: odd},
		&AccessPointChanged{AccessPoint: "deck-3", Change: AccessPointAdded, Range: "10.20.0.0/24", Certificate: odd,
			Networks: []string{"bridge-wifi", odd}, Reason: odd},
		&StayChanged{Decision: odd, AccessPoint: "deck-3", Network: "bridge-wifi", Device: "d-1", Person: "ada",
			Address: "02:00:00:00:00:01", From: odd, To: odd, How: StayUntold, Why: odd, Until: "2026-11-20T08:00:00Z"},
		&AuthorityChanged{Authority: "a", Change: AuthorityMade, Subject: odd, SHA256: "abc",
			Until: "2026-11-21T08:00:00Z", Former: "b",
			Reason: odd},
		&DeviceInvited{Device: "d", Devices: 20, Serial: odd, Profile: "crew", Until: "2026-11-21T08:00:00Z", Spoilt: 5},
		&CertificateIssued{Device: "d", Serial: "1f", SHA256: "abc", Authority: "a", Profile: "crew", Key: "def",
			Until: "2026-11-21T08:00:00Z", Renews: "1e"},
		&CertificateRefused{Device: "d", Profile: "crew", Why: odd},
		&DeviceQuarantined{Device: "d", Reason: odd, Until: "2026-11-21T08:00:00Z"},
		&DeviceTagged{Device: "d", Added: []string{odd}, Removed: []string{"pilot"}, Note: odd, Owner: pointer(odd)},
		&SessionsEnded{Device: "d", Person: odd, Resource: "payroll", Reason: odd},
		&DeviceReleased{Device: "d", Reason: odd},
		&CertificateShared{Device: "d", Serial: "7f", From: []string{"192.0.2.4", odd}},
		&StatementMade{Device: "d", Statement: "s-1", Audience: odd, Level: "sound",
			Until: "2026-11-21T08:00:00Z", Certificate: "ab"},
		&StatementRevoked{Device: "d", Statement: "s-1", Audience: odd, Level: "barred", Why: odd, Cause: ByEvidence},
		&CertificateRevoked{Device: "d", Serial: "1f", SHA256: "abc", Code: "keyCompromise", Reason: odd},
		&AlertSeen{Alert: "source:mdm", Note: odd},
		&NoticeMuted{Person: odd, Until: "2026-11-21T08:00:00Z", Reason: odd},
		&StandingChanged{Device: "d", From: "sound", To: "barred", Shadow: "limited",
			Binding: []string{"laptop/os", odd}, Cause: ByEvidence, Rulebook: 3, Outsider: true, Verdicts: "pf-",
			Changed: []VerdictChange{{From: posture.Pass, Rule: "laptop/os", To: posture.Fail, Why: odd},
				{From: posture.None, Rule: "x/y", To: posture.Waived}},
			Evidence: []EvidenceChange{{Attribute: "os.version", From: odd, Source: "mdm", To: "13"},
				{Attribute: "name", Source: "mdm", To: odd}}},
		&DecisionMade{ID: "06h", At: "2026-11-20T08:00:00Z",
			Asked: &access.Evaluation{Subject: access.Entity{ID: odd, Type: "user"}},
			Decision: &access.Decision{Outcome: access.Deny, Gates: []access.GateRuling{},
				ReasonAdmin: map[string]string{"en": odd}, ReasonUser: map[string]string{"sv": odd, "en": "a"}}},
		&SessionEnded{Decision: "06h", Person: odd, Device: "d", Resource: "payroll", Enforcer: "gate",
			Level: "barred", Outcome: "deny", Cause: ByAnswer, By: "06i"},
		&RulebookPublished{Version: 7, Name: odd, Message: odd, Digest: "abc", Accepted: impacts, Short: true,
			Rules: []PublishedRule{{Rule: "laptop/os", Controls: []string{odd}, Shadow: true}},
			Gates: []PublishedGate{{Gate: "payroll", Controls: []string{odd}, Shadow: true}}},
		&PeopleImported{Added: 1, Changed: 2, Removed: 3, People: []string{odd}, Accepted: impacts},
		&PersonRemoved{Person: odd, Name: odd, Groups: []string{"crew"}, Reason: odd, Accepted: impacts},
		&RosterImported{Added: 1, Changed: 2, Accepted: impacts},
		&RosterRemoved{Entry: "serial:gf-1", Serial: "GF-1", HardwareID: "h", Reason: odd, Accepted: impacts},
		NewToken("t", odd, "reader", odd).Ending("u", "b"), &TokenRevoked{token{"t", odd, "reader", odd, "u", "b"}},
		&TokenBounded{token{"t", odd, "reader", odd, "u", "b"}},
		&EvidenceRefused{Device: "d", Reports: 1, Attributes: 2, Unmatched: 3,
			Examples: []Refusal{{Attribute: "a", Device: "d", Line: 4, Message: odd, Unmatched: "u"}}},
		&DeviceKeyed{Device: "d", Gained: keys, Lost: keys[:1], Reason: odd, Source: "mdm", From: "x", To: "y"},
		&DeviceSettled{Device: "d", Unmatched: "u", Source: "mdm", Reason: odd,
			Moved: []MovedKey{{Kind: evidence.BySerial, Text: odd, From: "x", To: "d"}}},
		&ReportDiscarded{Unmatched: "u", Source: "mdm", Reason: odd},
		&EvidenceGone{Source: "mdm", Devices: 3, Some: []string{odd}, Held: odd, Reason: odd},
		&WaiverGranted{exception}, &WaiverApproved{exception}, &WaiverRevoked{exception}, &VouchGiven{exception},
		&VouchRevoked{exception},
		&DeviceEnrolled{enrolment}, &EnrolmentHeld{enrolment}, &EnrolmentRefused{enrolment},
		&DeviceRetired{Device: "d", At: 5, By: "astrid", Reason: odd, PurgedAt: 6},
		&DevicePurged{Device: "d", Readings: 7, Reason: odd},
		&Redacted{ledger.Redaction{Entry: 4, Leaf: "l", At: "t", Kind: ledger.DecisionMade, Actor: "a",
			About: "b", Reason: odd}},
		&KeyReplaced{Key: "k", Before: "b", Reason: odd}, &ClockReset{Newest: "t", Reason: odd},
		&StateSealed{Reason: odd}, &Marked{Reason: odd},
		&ReportMade{ID: "r", Report: "monthly", From: "a", To: "b", SHA256: "ab", Size: 4},
		&Archived{ledger.Archival{Archive: "ar-1", From: 1, To: 9, Entries: 8, Before: "2026-01-01T00:00:00Z", File: odd,
			SHA256: "ab", Bytes: 7, Reason: odd}},
	}
}

// full fails for a member that has no value, so that a member that is added is
// tried too.
func full(t *testing.T, what string, v reflect.Value) {
	t.Helper()
	switch v.Kind() {
	case reflect.Pointer:
		if !v.IsNil() {
			full(t, what, v.Elem())
		}
	case reflect.Slice:
		for i := range v.Len() {
			if i == 0 {
				full(t, what, v.Index(i))
			}
		}
	case reflect.Struct:
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.Type.PkgPath() == "" || strings.Contains(f.Type.PkgPath(), "/event") {
				if v.Field(i).IsZero() && f.Type.NumMethod() == 0 && f.Type.Size() > 0 {
					t.Errorf("%s.%s is not tried", what, f.Name)
				}
				full(t, what+"."+f.Name, v.Field(i))
			}
		}
	}
}

// The body of an event is all of it in canonical form, whoever wrote it, and the
// entry is read back as the same event.
func TestAnEventIsReadBackAsItWas(t *testing.T) {
	var seen []ledger.Kind
	for _, e := range oneOfEach() {
		if _, whole := e.(*DecisionMade); !whole { // its own test fills it
			full(t, string(e.Kind()), reflect.ValueOf(e))
		}
		seen = append(seen, e.Kind())
		l := Entry(1_763_625_600_000_000, "astrid", e)
		if canonical, err := ledger.Canonical(value.JSON(e)); err != nil || string(canonical) != string(l.Body) {
			t.Errorf("%s is recorded as\n%s\nand is\n%s (%v)", e.Kind(), l.Body, canonical, err)
		}
		back, err := Read(&l)
		if err != nil || !reflect.DeepEqual(back, e) {
			t.Errorf("%s is read back as\n%+v\nand was\n%+v (%v)", e.Kind(), back, e, err)
		}
		if l.About != e.About() || l.Kind != e.Kind() || l.About == "" {
			t.Errorf("%s is about %q in the entry, and about %q", e.Kind(), l.About, e.About())
		}
		if Gist(&l) == "" || Gist(&l) != e.Gist() {
			t.Errorf("%s is told as %q, and is %q", e.Kind(), Gist(&l), e.Gist())
		}
		if events, err := OCSF(&l, "gullholm.example/ledger"); err != nil || len(events) == 0 {
			t.Errorf("%s as events: %v", e.Kind(), err)
		}
	}
	for _, k := range ledger.Kinds {
		if !slices.Contains(seen, k) || kinds[k] == nil {
			t.Errorf("the kind %s has no event", k)
		}
	}
	if len(kinds) != len(ledger.Kinds) {
		t.Errorf("%d kinds are read, and there are %d", len(kinds), len(ledger.Kinds))
	}
}

func TestWhatCannotBeRead(t *testing.T) {
	for name, l := range map[string]ledger.Entry{
		"a kind of a later version": {Seq: 3, Kind: "moon.waned", Body: json.RawMessage(`{}`)},
		"a body of another form":    {Seq: 3, Kind: ledger.RulebookPublished, Body: json.RawMessage(`[1]`)},
	} {
		if e, err := Read(&l); err == nil || !strings.Contains(err.Error(), "entry 3") {
			t.Errorf("%s is read as %v (%v)", name, e, err)
		}
		if Gist(&l) != "" {
			t.Errorf("%s is told as %q", name, Gist(&l))
		}
	}
	redacted := ledger.Entry{Kind: ledger.DecisionMade}
	if e, err := Read(&redacted); e != nil || err != nil || Gist(&redacted) != "redacted" {
		t.Errorf("a redacted entry is read as %v (%v)", e, err)
	}
	if _, ok := As[*StandingChanged](&redacted); ok {
		t.Error("a redacted entry is a standing that changed")
	}
	later := ledger.Entry{Kind: "moon.waned", About: "moon", Body: json.RawMessage(`{"by":3}`)}
	if events, err := OCSF(&later, "o"); err != nil || len(events) != 1 ||
		!strings.Contains(string(events[0]), `"by":3`) {
		t.Errorf("a kind of a later version as events: %s (%v)", events, err)
	}
}

// What is too large for an entry is recorded by its hash, or in part.
func TestLargeEvents(t *testing.T) {
	long := strings.Repeat("x", MaxBody)
	if l := Entry(1, "a", &PersonRemoved{Person: "p", Reason: long}); !strings.HasPrefix(string(l.Body),
		`{"cut":true,"sha256":"`) {
		t.Errorf("it is recorded as %.100s", l.Body)
	}
	s := &StandingChanged{Device: "d", To: "sound", Cause: ByRulebook}
	for range 2000 {
		s.Binding = append(s.Binding, strings.Repeat("r", 40))
		s.Changed = append(s.Changed, VerdictChange{Rule: "r", To: posture.Fail})
	}
	l := Entry(1, "a", s)
	back, ok := As[*StandingChanged](&l)
	if !ok || back.To != "sound" || len(back.Binding) != maxBinding || back.Changed != nil {
		t.Errorf("a standing of many rules is recorded as %.100s", l.Body)
	}
	if about := Entry(1, "a", &PersonRemoved{Person: strings.Repeat("å",
		MaxAbout)}).About; len(about) > MaxAbout+len("…") || strings.Contains(about, "\ufffd") {
		t.Errorf("it is about %d bytes", len(about))
	}
}

func pointer(s string) *string { return &s }
