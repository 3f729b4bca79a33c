package ledger

import (
	"encoding/json"
	"fmt"
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

	ocsfCategories = []string{"Uncategorized", "System Activity", "Findings", "Identity & Access Management", "Network Activity", "Discovery"}
)

// The activities of entity management.
const (
	ocsfCreate = 1
	ocsfUpdate = 3
	ocsfDelete = 4
	ocsfOther  = 99
)

// ocsfActs are the kinds that tell of somebody managing something: what, and
// the activity.
var ocsfActs = map[Kind]struct {
	what     string
	activity int
}{
	RulebookPublished: {"rulebook", ocsfCreate}, PeopleImported: {"directory", ocsfUpdate}, PersonRemoved: {"person", ocsfDelete}, TokenCreated: {"token", ocsfCreate}, TokenRevoked: {"token", ocsfDelete},
	DeviceSettled: {"device", ocsfUpdate}, ReportDiscarded: {"report", ocsfDelete}, WaiverGranted: {"waiver", ocsfCreate}, WaiverRevoked: {"waiver", ocsfDelete},
	VouchGiven: {"vouch", ocsfCreate}, VouchRevoked: {"vouch", ocsfDelete}, RosterImported: {"roster", ocsfUpdate}, RosterRemoved: {"roster", ocsfUpdate},
	DeviceEnrolled: {"device", ocsfCreate}, EnrolmentHeld: {"enrolment", ocsfCreate}, EnrolmentRefused: {"enrolment", ocsfOther}, DeviceRetired: {"device", ocsfDelete},
	Redacted: {"ledger entry", ocsfUpdate}, KeyReplaced: {"ledger key", ocsfUpdate}, ClockReset: {"clock", ocsfUpdate},
}

// ocsfVerdicts maps verdicts to the status of a finding and of compliance.
var ocsfVerdicts = map[string]struct {
	finding, compliance         int
	findingText, complianceText string
}{
	"pass":    {4, 1, "Resolved", "Pass"},
	"fail":    {1, 3, "New", "Fail"},
	"grace":   {2, 2, "In Progress", "Warning"},
	"waived":  {3, 2, "Suppressed", "Warning"},
	"unknown": {1, 0, "New", "Unknown"},
	"none":    {4, 0, "Resolved", "Unknown"},
}

type object = map[string]any

// OCSF tells an entry as events of the Open Cybersecurity Schema Framework, for
// systems that watch over many others: a changed level as a device
// configuration state change, each changed verdict as a compliance finding, a
// decision as an authorisation. Every entry makes one event at least. origin
// names the ledger.
func (e *Entry) OCSF(origin string) ([]json.RawMessage, error) {
	events, err := e.ocsf()
	if err != nil {
		return nil, fmt.Errorf("entry %d as events: %w", e.Seq, err)
	}
	out := make([]json.RawMessage, len(events))
	for i, ev := range events {
		ev["metadata"] = object{"version": OCSFVersion, "product": object{"name": "Iron Ledger", "vendor_name": "Iron Ledger"}, "log_name": origin,
			"uid": fmt.Sprintf("%s/%d/%d", origin, e.Seq, i), "sequence": e.Seq, "event_code": string(e.Kind)}
		if out[i], err = json.Marshal(ev); err != nil {
			return nil, fmt.Errorf("entry %d as events: %w", e.Seq, err)
		}
	}
	return out, nil
}

// event is what every event has.
func (e *Entry) event(class ocsfClass, activity int, activityName, message string) object {
	return object{
		"class_uid": class.uid, "class_name": class.name, "category_uid": class.uid / 1000, "category_name": ocsfCategories[class.uid/1000],
		"activity_id": activity, "activity_name": activityName, "type_uid": class.uid*100 + activity, "time": e.At / 1000,
		"severity_id": 1, "severity": "Informational", "message": message,
		"actor": object{"user": object{"name": e.Actor}},
	}
}

func (e *Entry) ocsf() ([]object, error) {
	if e.Body == nil {
		return []object{e.event(ocsfBase, ocsfOther, "Redacted", fmt.Sprintf("entry %d was redacted", e.Seq))}, nil
	}
	switch e.Kind {
	case StandingChanged:
		return e.ocsfStanding()
	case DecisionMade:
		return e.ocsfDecision()
	case SessionEnded:
		var body struct{ Person, Device, Resource, Cause string }
		if err := json.Unmarshal(e.Body, &body); err != nil {
			return nil, err
		}
		ev := e.event(ocsfLogon, 2, "Logoff", fmt.Sprintf("access of %s to %s ended: %s", body.Person, body.Resource, body.Cause))
		ev["user"], ev["service"], ev["status_id"], ev["status"] = object{"uid": body.Person, "name": body.Person}, object{"name": body.Resource}, 1, "Success"
		if body.Device != "" {
			ev["device"] = ocsfDeviceOf(body.Device)
		}
		return []object{ev}, nil
	}
	act, known := ocsfActs[e.Kind]
	if !known {
		ev := e.event(ocsfBase, ocsfOther, string(e.Kind), string(e.Kind)+" "+e.About)
		ev["unmapped"] = object{"body": e.Body}
		return []object{ev}, nil
	}
	name := map[int]string{ocsfCreate: "Create", ocsfUpdate: "Update", ocsfDelete: "Delete", ocsfOther: "Refuse"}[act.activity]
	ev := e.event(ocsfEntity, act.activity, name, fmt.Sprintf("%s by %s: %s", e.Kind, e.Actor, e.About))
	ev["entity"] = object{"type": act.what, "uid": e.About, "name": e.About, "data": e.Body}
	ev["status_id"], ev["status"] = 1, "Success"
	return []object{ev}, nil
}

func ocsfDeviceOf(id string) object {
	return object{"uid": id, "name": id, "type_id": 0, "type": "Unknown"}
}

func (e *Entry) ocsfStanding() ([]object, error) {
	var body struct {
		Device, From, To, Cause string
		Binding                 []string
		Changed                 []struct{ Rule, From, To, Why string }
	}
	if err := json.Unmarshal(e.Body, &body); err != nil {
		return nil, err
	}
	device := ocsfDeviceOf(body.Device)
	var out []object
	if body.From != body.To {
		ev := e.event(ocsfDevice, 1, "Log", fmt.Sprintf("device %s is now %s", body.Device, body.To))
		ev["device"], ev["security_level_id"], ev["security_level"] = device, 99, body.To
		if body.From != "" {
			ev["prev_security_level_id"], ev["prev_security_level"] = 99, body.From
		}
		ev["unmapped"] = object{"binding": body.Binding, "cause": body.Cause}
		out = append(out, ev)
	}
	for _, c := range body.Changed {
		v, known := ocsfVerdicts[c.To]
		if !known {
			v = ocsfVerdicts["none"]
		}
		activity, name := 2, "Update"
		switch {
		case v.finding == 4:
			activity, name = 3, "Close"
		case c.From == "pass" || c.From == "none":
			activity, name = 1, "Create"
		}
		ev := e.event(ocsfCompliance, activity, name, fmt.Sprintf("%s: %s is %s (was %s) %s", body.Device, c.Rule, c.To, c.From, c.Why))
		if c.To == "fail" {
			ev["severity_id"], ev["severity"] = 3, "Medium"
		}
		ev["device"], ev["resources"] = device, []object{{"uid": body.Device, "type": "device"}}
		ev["finding_info"] = object{"uid": body.Device + "/" + c.Rule, "title": c.Rule, "desc": c.Why, "modified_time": e.At / 1000}
		ev["compliance"] = object{"control": c.Rule, "standards": []string{"rulebook"}, "status_id": v.compliance, "status": v.complianceText, "status_detail": c.Why}
		ev["status_id"], ev["status"] = v.finding, v.findingText
		out = append(out, ev)
	}
	if len(out) == 0 {
		ev := e.event(ocsfDevice, 1, "Log", fmt.Sprintf("device %s stays %s", body.Device, body.To))
		ev["device"], ev["security_level_id"], ev["security_level"] = device, 99, body.To
		out = append(out, ev)
	}
	return out, nil
}

func (e *Entry) ocsfDecision() ([]object, error) {
	var body struct {
		ID, Outcome, Device, Level string
		Code                       string
		Rulebook                   int64
		Asked                      struct {
			Subject, Resource struct{ ID string }
			Action            struct{ Name string }
			Context           *struct{ IP string }
		}
		Gates []struct {
			Gate    string `json:"gate"`
			Verdict string `json:"verdict"`
		}
	}
	if err := json.Unmarshal(e.Body, &body); err != nil {
		return nil, err
	}
	ev := e.event(ocsfAuthorize, ocsfOther, "Decide", fmt.Sprintf("%s: %s, %s %s", body.Outcome, body.Asked.Subject.ID, body.Asked.Action.Name, body.Asked.Resource.ID))
	ev["user"] = object{"uid": body.Asked.Subject.ID, "name": body.Asked.Subject.ID}
	ev["session"], ev["privileges"] = object{"uid": e.About}, []string{body.Asked.Action.Name}
	if ev["status_id"], ev["status"] = 1, "Success"; body.Outcome != "allow" {
		ev["status_id"], ev["status"], ev["status_detail"] = 2, "Failure", body.Outcome
		ev["severity_id"], ev["severity"] = 2, "Low"
	}
	if body.Device != "" {
		ev["device"] = ocsfDeviceOf(body.Device)
	}
	if c := body.Asked.Context; c != nil && c.IP != "" {
		ev["src_endpoint"] = object{"ip": c.IP}
	}
	ev["unmapped"] = object{"resource": body.Asked.Resource.ID, "outcome": body.Outcome, "level": body.Level, "rulebook": body.Rulebook, "gates": body.Gates, "code": body.Code}
	return []object{ev}, nil
}
