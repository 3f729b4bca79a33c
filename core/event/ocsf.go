package event

import (
	"encoding/json"
	"fmt"

	"ironledger.example/core/access"
	"ironledger.example/core/ledger"
	"ironledger.example/core/posture"
)

// OCSFVersion is the version of the Open Cybersecurity Schema Framework that
// events follow.
const OCSFVersion = "1.3.0"

// ocsfClass is a class of events: of its number the thousands are the category.
type ocsfClass struct {
	uid  int
	name string
}

var (
	ocsfBase       = ocsfClass{0, "Base Event"}
	ocsfCompliance = ocsfClass{2003, "Compliance Finding"}
	ocsfLogon      = ocsfClass{3002, "Authentication"}
	ocsfAuthorize  = ocsfClass{3003, "Authorize Session"}
	ocsfEntity     = ocsfClass{3004, "Entity Management"}
	ocsfDevice     = ocsfClass{5019, "Device Config State Change"}

	ocsfCategories = []string{"Uncategorized", "System Activity", "Findings", "Identity & Access Management",
		"Network Activity", "Discovery"}
)

// The activities of entity management.
const (
	ocsfCreate = 1
	ocsfUpdate = 3
	ocsfDelete = 4
	ocsfOther  = 99
)

var ocsfActivities = map[int]string{ocsfCreate: "Create", ocsfUpdate: "Update", ocsfDelete: "Delete",
	ocsfOther: "Refuse"}

// managed is an event that tells of somebody managing something.
type managed interface {
	Event
	// managing says what, and the activity.
	managing() (what string, activity int)
}

func (*RulebookPublished) managing() (string, int)  { return "rulebook", ocsfCreate }
func (*PeopleImported) managing() (string, int)     { return "directory", ocsfUpdate }
func (*PersonRemoved) managing() (string, int)      { return "person", ocsfDelete }
func (*RosterImported) managing() (string, int)     { return "roster", ocsfUpdate }
func (*RosterRemoved) managing() (string, int)      { return "roster", ocsfUpdate }
func (*TokenCreated) managing() (string, int)       { return "token", ocsfCreate }
func (*TokenRevoked) managing() (string, int)       { return "token", ocsfDelete }
func (*StreamChanged) managing() (string, int)      { return "stream", ocsfUpdate }
func (*FeedChanged) managing() (string, int)        { return "feed", ocsfUpdate }
func (*SignalReceived) managing() (string, int)     { return "sessions", ocsfDelete }
func (*AccessPointChanged) managing() (string, int) { return "access point", ocsfUpdate }
func (*StayChanged) managing() (string, int)        { return "admission to a network", ocsfUpdate }
func (*AuthorityChanged) managing() (string, int)   { return "certificate authority", ocsfUpdate }
func (*DeviceInvited) managing() (string, int)      { return "invitation", ocsfCreate }
func (*CertificateIssued) managing() (string, int)  { return "certificate", ocsfCreate }
func (*CertificateRefused) managing() (string, int) { return "certificate", ocsfOther }
func (*CertificateRevoked) managing() (string, int) { return "certificate", ocsfDelete }
func (*DeviceQuarantined) managing() (string, int)  { return "quarantine", ocsfCreate }
func (*DeviceTagged) managing() (string, int)       { return "device", ocsfUpdate }
func (*SessionsEnded) managing() (string, int)      { return "sessions", ocsfDelete }
func (*DevicePurged) managing() (string, int)       { return "evidence", ocsfDelete }
func (*DeviceReleased) managing() (string, int)     { return "quarantine", ocsfDelete }
func (*CertificateShared) managing() (string, int)  { return "certificate", ocsfOther }
func (*StatementMade) managing() (string, int)      { return "statement", ocsfCreate }
func (*StatementRevoked) managing() (string, int)   { return "statement", ocsfDelete }
func (*NoticeSent) managing() (string, int)         { return "notice", ocsfCreate }
func (*NoticeMuted) managing() (string, int)        { return "notices of a person", ocsfUpdate }
func (*AlertSeen) managing() (string, int)          { return "alert", ocsfUpdate }
func (*DeviceKeyed) managing() (string, int)        { return "device", ocsfUpdate }
func (*DeviceSettled) managing() (string, int)      { return "device", ocsfUpdate }
func (*ReportDiscarded) managing() (string, int)    { return "report", ocsfDelete }
func (*WaiverGranted) managing() (string, int)      { return "waiver", ocsfCreate }
func (*WaiverApproved) managing() (string, int)     { return "waiver", ocsfUpdate }
func (*WaiverRevoked) managing() (string, int)      { return "waiver", ocsfDelete }
func (*VouchGiven) managing() (string, int)         { return "vouch", ocsfCreate }
func (*VouchRevoked) managing() (string, int)       { return "vouch", ocsfDelete }
func (*DeviceEnrolled) managing() (string, int)     { return "device", ocsfCreate }
func (*EnrolmentHeld) managing() (string, int)      { return "enrolment", ocsfCreate }
func (*EnrolmentRefused) managing() (string, int)   { return "enrolment", ocsfOther }
func (*DeviceRetired) managing() (string, int)      { return "device", ocsfDelete }
func (*Redacted) managing() (string, int)           { return "ledger entry", ocsfUpdate }
func (*KeyReplaced) managing() (string, int)        { return "ledger key", ocsfUpdate }
func (*ClockReset) managing() (string, int)         { return "clock", ocsfUpdate }
func (*StateSealed) managing() (string, int)        { return "ledger", ocsfUpdate }
func (*Archived) managing() (string, int)           { return "ledger archive", ocsfCreate }
func (*Marked) managing() (string, int)             { return "ledger", ocsfUpdate }
func (*ReportMade) managing() (string, int)         { return "report", ocsfCreate }

// ocsfVerdicts maps verdicts to the status of a finding and of compliance.
var ocsfVerdicts = map[posture.Verdict]struct {
	finding, compliance         int
	findingText, complianceText string
}{
	posture.Pass:    {4, 1, "Resolved", "Pass"},
	posture.Fail:    {1, 3, "New", "Fail"},
	posture.Grace:   {2, 2, "In Progress", "Warning"},
	posture.Waived:  {3, 2, "Suppressed", "Warning"},
	posture.Unknown: {1, 0, "New", "Unknown"},
	posture.None:    {4, 0, "Resolved", "Unknown"},
}

type object = map[string]any

// OCSF tells an entry as events of the Open Cybersecurity Schema Framework, for
// systems that watch over many others: a changed level as a device
// configuration state change, each changed verdict as a compliance finding, a
// decision as an authorisation. Every entry makes one event at least. origin
// names the ledger.
func OCSF(l *ledger.Entry, origin string) ([]json.RawMessage, error) {
	events, err := ocsf(l)
	if err != nil {
		return nil, fmt.Errorf("entry %d as events: %w", l.Seq, err)
	}
	out := make([]json.RawMessage, len(events))
	for i, ev := range events {
		ev["metadata"] = object{"version": OCSFVersion,
			"product": object{"name": "Iron Ledger", "vendor_name": "Iron Ledger"}, "log_name": origin,
			"uid": fmt.Sprintf("%s/%d/%d", origin, l.Seq, i), "sequence": l.Seq, "event_code": string(l.Kind)}
		if out[i], err = json.Marshal(ev); err != nil {
			return nil, fmt.Errorf("entry %d as events: %w", l.Seq, err)
		}
	}
	return out, nil
}

// ocsfEvent is what every event has.
func ocsfEvent(l *ledger.Entry, class ocsfClass, activity int, activityName, message string) object {
	return object{
		"class_uid": class.uid, "class_name": class.name, "category_uid": class.uid / 1000,
		"category_name": ocsfCategories[class.uid/1000],
		"activity_id":   activity, "activity_name": activityName, "type_uid": class.uid*100 + activity,
		"time":        l.At / 1000,
		"severity_id": 1, "severity": "Informational", "message": message,
		"actor": object{"user": object{"name": l.Actor}},
	}
}

func ocsf(l *ledger.Entry) ([]object, error) {
	if l.Archive != "" {
		return []object{ocsfEvent(l, ocsfBase, ocsfOther, "Archived",
			fmt.Sprintf("entry %d is in the archive %s", l.Seq, l.Archive))}, nil
	}
	if l.Body == nil {
		return []object{ocsfEvent(l, ocsfBase, ocsfOther, "Redacted",
			fmt.Sprintf("entry %d was redacted", l.Seq))}, nil
	}
	e, err := Read(l)
	if err != nil && kinds[l.Kind] != nil {
		return nil, err
	}
	switch e := e.(type) {
	case *StandingChanged:
		return e.ocsf(l), nil
	case *DecisionMade:
		return e.ocsf(l), nil
	case *SessionEnded:
		return e.ocsf(l), nil
	case managed:
		what, activity := e.managing()
		ev := ocsfEvent(l, ocsfEntity, activity, ocsfActivities[activity],
			fmt.Sprintf("%s by %s: %s", l.Kind, l.Actor, l.About))
		ev["entity"] = object{"type": what, "uid": l.About, "name": l.About, "data": l.Body}
		ev["status_id"], ev["status"] = 1, "Success"
		return []object{ev}, nil
	}
	// Of a later version, or no act of anybody.
	ev := ocsfEvent(l, ocsfBase, ocsfOther, string(l.Kind), string(l.Kind)+" "+l.About)
	ev["unmapped"] = object{"body": l.Body}
	return []object{ev}, nil
}

func ocsfDeviceOf(id string) object {
	return object{"uid": id, "name": id, "type_id": 0, "type": "Unknown"}
}

func (s *SessionEnded) ocsf(l *ledger.Entry) []object {
	ev := ocsfEvent(l, ocsfLogon, 2, "Logoff",
		fmt.Sprintf("access of %s to %s ended: %s", s.Person, s.Resource, s.Cause))
	ev["user"], ev["service"] = object{"uid": s.Person, "name": s.Person}, object{"name": s.Resource}
	ev["status_id"], ev["status"] = 1, "Success"
	if s.Device != "" {
		ev["device"] = ocsfDeviceOf(s.Device)
	}
	return []object{ev}
}

func (s *StandingChanged) ocsf(l *ledger.Entry) []object {
	device := ocsfDeviceOf(s.Device)
	var out []object
	if s.From != s.To {
		ev := ocsfEvent(l, ocsfDevice, 1, "Log", fmt.Sprintf("device %s is now %s", s.Device, s.To))
		ev["device"], ev["security_level_id"], ev["security_level"] = device, 99, s.To
		if s.From != "" {
			ev["prev_security_level_id"], ev["prev_security_level"] = 99, s.From
		}
		ev["unmapped"] = object{"binding": s.Binding, "cause": s.Cause}
		out = append(out, ev)
	}
	for _, c := range s.Changed {
		out = append(out, c.ocsf(l, s.Device))
	}
	if len(out) == 0 {
		ev := ocsfEvent(l, ocsfDevice, 1, "Log", fmt.Sprintf("device %s stays %s", s.Device, s.To))
		ev["device"], ev["security_level_id"], ev["security_level"] = device, 99, s.To
		out = append(out, ev)
	}
	return out
}

func (c *VerdictChange) ocsf(l *ledger.Entry, device string) object {
	v := ocsfVerdicts[c.To]
	activity, name := 2, "Update"
	switch {
	case v.finding == 4:
		activity, name = 3, "Close"
	case c.From == posture.Pass || c.From == posture.None:
		activity, name = 1, "Create"
	}
	ev := ocsfEvent(l, ocsfCompliance, activity, name,
		fmt.Sprintf("%s: %s is %s (was %s) %s", device, c.Rule, c.To, c.From, c.Why))
	if c.To == posture.Fail {
		ev["severity_id"], ev["severity"] = 3, "Medium"
	}
	ev["device"], ev["resources"] = ocsfDeviceOf(device), []object{{"uid": device, "type": "device"}}
	ev["finding_info"] = object{"uid": device + "/" + c.Rule, "title": c.Rule, "desc": c.Why,
		"modified_time": l.At / 1000}
	ev["compliance"] = object{"control": c.Rule, "standards": []string{"rulebook"}, "status_id": v.compliance,
		"status": v.complianceText, "status_detail": c.Why}
	ev["status_id"], ev["status"] = v.finding, v.findingText
	return ev
}

func (d *DecisionMade) ocsf(l *ledger.Entry) []object {
	if d.Asked == nil {
		d.Asked = &access.Evaluation{}
	}
	if d.Decision == nil {
		d.Decision = &access.Decision{}
	}
	ev := ocsfEvent(l, ocsfAuthorize, ocsfOther, "Decide", d.Gist())
	ev["user"] = object{"uid": d.Asked.Subject.ID, "name": d.Asked.Subject.ID}
	ev["session"], ev["privileges"] = object{"uid": l.About}, []string{d.Asked.Action.Name}
	if ev["status_id"], ev["status"] = 1, "Success"; d.Outcome != access.Allow {
		ev["status_id"], ev["status"], ev["status_detail"] = 2, "Failure", d.Outcome
		ev["severity_id"], ev["severity"] = 2, "Low"
	}
	if d.Device != "" {
		ev["device"] = ocsfDeviceOf(d.Device)
	}
	if c := d.Asked.Context; c != nil && c.IP != "" {
		ev["src_endpoint"] = object{"ip": c.IP}
	}
	gates := make([]object, 0, len(d.Gates))
	for _, g := range d.Gates {
		gates = append(gates, object{"gate": g.Gate, "verdict": g.Verdict})
	}
	ev["unmapped"] = object{"resource": d.Asked.Resource.ID, "outcome": d.Outcome, "level": d.Level,
		"rulebook": d.Rulebook, "gates": gates, "code": d.Code}
	return []object{ev}
}
