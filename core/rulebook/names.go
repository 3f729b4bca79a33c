package rulebook

import (
	"slices"

	"ironledger.example/core/condition"
	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
)

// RequestFrame is the frame of a [condition.Env] that holds what a request says.
const RequestFrame = 1

// The slots of the request frame.
const (
	SlotKnownDevice = iota
	SlotLevel
	SlotUserID
	SlotUserGroups
	SlotMFA
	SlotMethods
	SlotAuthAt
	SlotResourceID
	SlotResourceTags
	SlotAction
	SlotIP
	SlotPlaces
	SlotCountry
	SlotAt
	SlotCertificate
	SlotCertificateProfile
	SlotCertificateAt
	SlotUserKnown
	SlotProof
	RequestSlots // how many there are
)

// requestNames are the names that conditions of gates may use beside the
// attributes of a device, in the order of their slots. The type of level is
// the rulebook's ladder.
var requestNames = [RequestSlots]struct {
	name  string
	title string
	typ   value.Type
}{
	{"known_device", "Whether the device is known", value.Of(value.Bool)},
	{"level", "Level of the device", value.Type{}},
	{"user.id", "Person", value.Of(value.Text)},
	{"user.groups", "Groups of the person", value.ListOf(value.Of(value.Text))},
	{"auth.mfa", "Signed in with a second factor", value.Of(value.Bool)},
	{"auth.methods", "Sign-in methods", value.ListOf(value.Of(value.Text))},
	{"auth.at", "Signed in at", value.Of(value.Time)},
	{"resource.id", "Resource", value.Of(value.Text)},
	{"resource.tags", "Tags of the resource", value.ListOf(value.Of(value.Text))},
	{"action", "Action", value.Of(value.Text)},
	{"request.ip", "Address of the caller", value.Of(value.Network)},
	{"request.places", "Places the address is in", value.ListOf(value.Of(value.Text))},
	{"request.country", "Country of the caller", value.Of(value.Text)},
	{"request.at", "Time of the request", value.Of(value.Time)},
	{"request.certificate", "A trusted certificate of the device was proved", value.Of(value.Bool)},
	{"request.certificate.profile", "Profile under which we issued that certificate", value.Of(value.Text)},
	{"request.certificate.at", "When that certificate began to count", value.Of(value.Time)},
	{"user.known", "Whether the directory knows the person", value.Of(value.Bool)},
	{"request.proof", "How a device that joins a network proved which one it is", Proofs},
}

// RequestName is the name of a slot of the request frame.
func RequestName(slot int) string { return requestNames[slot].name }

// The slots of the second frame for conditions on a change of which receivers hear.
const (
	SlotChangeEvent = iota
	SlotChangeFrom
	SlotChangeTo
	SlotChangeCause
	SlotChangeRules
	SlotChangeLost
	SlotChangeGained
	SlotChangeLevel
	ChangeSlots // how many there are
)

// changeNames are the names that a condition on a change may use beside the attributes of
// the device, in the order of their slots. The type of levels is the rulebook's ladder.
var changeNames = [ChangeSlots]ExtraName{
	{"change.event", "Short name of the event", value.Of(value.Text)},
	{"change.from", "Level before", value.Type{}},
	{"change.to", "Level after", value.Type{}},
	{"change.cause", "What made it change", value.Of(value.Text)},
	{"change.rules", "Rules that hold the device down after", value.ListOf(value.Of(value.Text))},
	{"change.lost", "Resources that it can be used for no longer", value.ListOf(value.Of(value.Text))},
	{"change.gained", "Resources that it can be used for again", value.ListOf(value.Of(value.Text))},
	{"level", "Level of the device now", value.Type{}},
}

func newChangeNames(dict *evidence.Dictionary, level value.Type) *Names {
	extra := slices.Clone(changeNames[:])
	for _, slot := range []int{SlotChangeFrom, SlotChangeTo, SlotChangeLevel} {
		extra[slot].Type = level
	}
	return NewNames(dict, extra)
}

// Names is a dictionary of the attributes of a device and, in the second
// frame, names of the caller's own. It implements [condition.Dictionary].
type Names struct {
	dict  *evidence.Dictionary
	extra []ExtraName
}

// ExtraName is a name in the second frame; its slot is its place in the list.
type ExtraName struct {
	Name, Title string
	Type        value.Type
}

// NewNames joins the attributes of dict with extra names.
func NewNames(dict *evidence.Dictionary, extra []ExtraName) *Names { return &Names{dict, extra} }

func newRequestNames(dict *evidence.Dictionary, level value.Type) *Names {
	extra := make([]ExtraName, RequestSlots)
	for i, n := range requestNames {
		extra[i] = ExtraName{n.name, n.title, n.typ}
	}
	extra[SlotLevel].Type = level
	return NewNames(dict, extra)
}

// Extra lists the names of the second frame.
func (n *Names) Extra() []ExtraName { return n.extra }

// Lookup implements [condition.Dictionary].
func (n *Names) Lookup(name string) (condition.Name, bool) {
	for i, x := range n.extra {
		if x.Name == name {
			return condition.Name{Type: x.Type, Frame: RequestFrame, Slot: i}, true
		}
	}
	return n.dict.Lookup(name)
}

// Names implements [condition.Dictionary].
func (n *Names) Names() []string {
	names := n.dict.Names()
	for _, x := range n.extra {
		names = append(names, x.Name)
	}
	return names
}
