package kept

import (
	"encoding/json"

	"ironledger.example/core/evidence"
)

// Unmatched is a report that was joined to no device: its keys point at several,
// or two machines share a serial, and a person must say whose it is; or nobody
// knows the device, and the source cannot make it known.
type Unmatched struct {
	ID         string            `json:"id"`
	At         int64             `json:"at"` // when the newest such report arrived
	Times      int               `json:"times"`
	Source     string            `json:"source"`
	ExternalID string            `json:"external_id,omitempty"`
	Identity   evidence.Identity `json:"identity"`
	Observed   int64             `json:"observed"`
	Kept       json.RawMessage   `json:"kept"`              // its readings, as evidence.Record writes them
	Why        string            `json:"why,omitempty"`     // it was not joined
	Waiting    bool              `json:"waiting,omitempty"` // for another source to make its device known

	SettledAt int64  `json:"settled_at,omitempty"`
	SettledBy string `json:"settled_by,omitempty"`
	Device    string `json:"device,omitempty"` // "" of a settled one: discarded
	Reason    string `json:"reason,omitempty"`
}

// UnmatchedOf is whose open reports are counted, and which.
type UnmatchedOf struct {
	Source  string
	Waiting bool
}

// Of is among which reports one is counted while it is open.
func (u *Unmatched) Of() UnmatchedOf { return UnmatchedOf{u.Source, u.Waiting} }

// Unsettled reports whether there is such a report, and nobody has settled it.
func (u *Unmatched) Unsettled() bool { return u != nil && u.SettledAt == 0 }

// State is open, waiting, joined or discarded.
func (u *Unmatched) State() string {
	switch {
	case u.SettledAt == 0 && u.Waiting:
		return "waiting"
	case u.SettledAt == 0:
		return "open"
	case u.Device != "":
		return "joined"
	}
	return "discarded"
}

// Keys are those that the report names.
func (u *Unmatched) Keys() []evidence.Key {
	rep := evidence.Report{Source: u.Source, ExternalID: u.ExternalID, Identity: u.Identity}
	return rep.Identified().Keys()
}

// Report makes the kept report again, for the attributes of a dictionary.
func (u *Unmatched) Report(dict *evidence.Dictionary) (*evidence.Report, error) {
	rep, err := dict.UnmarshalSource(u.Source, u.Kept)
	if err != nil {
		return nil, err
	}
	rep.ExternalID, rep.Identity, rep.At = u.ExternalID, u.Identity, u.Observed
	return rep.Identified(), nil
}
