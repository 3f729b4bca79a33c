// Package evidence holds what devices and sources have shown (RFC 9334): the
// dictionary of attributes, reports as they arrive, the readings kept of them,
// and which reading counts at a moment.
package evidence

import (
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/value"
)

// Attribute is one thing that can be known of a device.
type Attribute struct {
	Name  string
	Type  value.Type
	Title string
	// Timeless attributes say what a device is, not how it is, and never go stale.
	Timeless bool
	// Worse is which values lower trust; 0 for an attribute that has no such order.
	Worse Direction
	// Worst makes several sources combine to the reading that lowers trust most,
	// unless a rulebook says otherwise.
	Worst bool
	// ByService attributes are set by the service and refused in a report.
	ByService bool
}

// Direction says which values of an attribute are worse.
type Direction int

// The directions.
const (
	LowIsWorse  Direction = -1
	HighIsWorse Direction = 1
)

// worseOf is the direction of a type where nothing else is said: less of it is
// worse, for false is less than true.
func worseOf(t value.Type) Direction {
	switch t.Kind {
	case value.Bool, value.Int, value.Version, value.Time:
		return LowIsWorse
	case value.Duration:
		return HighIsWorse
	}
	return 0
}

// ThreatLevel is the ordered scale of threat.level and of the severity of a threat.
var ThreatLevel = value.Words("threat.level", true, "none", "low", "medium", "high", "critical")

var (
	boolean = value.Of(value.Bool)
	text    = value.Of(value.Text)
	moment  = value.Of(value.Time)
	texts   = value.ListOf(text)
	volume  = &value.RecordType{Name: "volume",
		Fields: []value.Field{{Name: "name", Type: text}, {Name: "system", Type: boolean},
			{Name: "encrypted", Type: boolean}}}
	threat = &value.RecordType{Name: "threat",
		Fields: []value.Field{{Name: "id", Type: text}, {Name: "severity", Type: ThreatLevel},
			{Name: "active", Type: boolean}, {Name: "at", Type: moment}, {Name: "title", Type: text}}}
	app = &value.RecordType{Name: "app",
		Fields: []value.Field{{Name: "id", Type: text}, {Name: "name", Type: text},
			{Name: "version", Type: value.Of(value.Version)}}}
	platform = value.Words("platform", false, "windows", "macos", "linux", "ios", "ipados", "android",
		"chromeos", "other")
)

// Platforms are the words of the attribute platform.
func Platforms() []string { return slices.Clone(platform.Enum.Words) }

// IssuedName is the attribute that holds what our own authority issued to a device, and Authority the source of its
// readings, which is nobody else's.
const (
	IssuedName = "certs.issued"
	Authority  = "authority"
)

// standard is the dictionary that every rulebook starts from.
var standard = []Attribute{
	{Name: "platform", Type: platform, Title: "Platform", Timeless: true},
	{Name: "form", Type: value.Words("form", false, "laptop", "desktop", "phone", "tablet", "kiosk", "server",
		"other"), Title: "Form", Timeless: true},
	{Name: "model", Type: text, Title: "Model", Timeless: true},
	{Name: "vendor", Type: text, Title: "Vendor", Timeless: true},
	{Name: "name", Type: text, Title: "Name", Timeless: true},
	{Name: "serial", Type: text, Title: "Serial number", Timeless: true},
	{Name: "hardware_id", Type: text, Title: "Hardware identifier", Timeless: true},
	{Name: "ownership", Type: value.Words("ownership", false, "company", "personal", "unknown"),
		Title: "Ownership", Timeless: true},
	{Name: "managed", Type: boolean, Title: "Managed"},
	{Name: "directory.joined", Type: value.Words("directory.joined", false, "none", "registered", "joined"),
		Title: "Joined to the directory"},
	{Name: "owner", Type: text, Title: "Owner", Timeless: true},
	{Name: "owner.groups", Type: texts, Title: "Groups of the owner", Timeless: true, ByService: true},
	{Name: "os.version", Type: value.Of(value.Version), Title: "Operating system version"},
	{Name: "os.build", Type: text, Title: "Operating system build"},
	{Name: "os.release", Type: text, Title: "Operating system release"},
	{Name: "os.patched_at", Type: moment, Title: "Last patched"},
	{Name: "storage.encrypted", Type: boolean, Title: "Storage encrypted"},
	{Name: "volumes", Type: value.ListOf(value.Type{Kind: value.Record, Record: volume}), Title: "Volumes"},
	{Name: "on_roster", Type: boolean, Title: "On the roster", Timeless: true, ByService: true},
	{Name: "vouched", Type: boolean, Title: "Vouched for", Timeless: true, ByService: true},
	{Name: "tags", Type: texts, Title: "Tags", Timeless: true, ByService: true},
	{Name: "passcode.set", Type: boolean, Title: "Passcode set"},
	{Name: "passcode.biometric", Type: boolean, Title: "Biometric unlock"},
	{Name: "passcode.length", Type: value.Of(value.Int), Title: "Passcode length"},
	{Name: "screen_lock.after", Type: value.Of(value.Duration), Title: "Screen locks after"},
	{Name: "firewall.on", Type: boolean, Title: "Firewall on"},
	{Name: "antimalware.on", Type: boolean, Title: "Antimalware on"},
	{Name: "antimalware.updated_at", Type: moment, Title: "Antimalware updated"},
	{Name: "secure_boot", Type: boolean, Title: "Secure boot"},
	{Name: "tpm.present", Type: boolean, Title: "Security chip present"},
	{Name: "integrity.tampered", Type: boolean, Title: "Tampered with", Worse: HighIsWorse, Worst: true},
	{Name: "threat.score", Type: value.Of(value.Int), Title: "Threat score", Worse: HighIsWorse, Worst: true},
	{Name: "threat.level", Type: ThreatLevel, Title: "Threat level", Worse: HighIsWorse, Worst: true},
	{Name: "threats", Type: value.ListOf(value.Type{Kind: value.Record, Record: threat}), Title: "Threats"},
	{Name: "certs", Type: value.ListOf(value.Type{Kind: value.Record, Record: certificate.Type}),
		Title: "Certificates"},
	{Name: IssuedName, Type: value.ListOf(value.Type{Kind: value.Record, Record: certificate.Type}),
		Title: "Certificates that we issued", Timeless: true, ByService: true},
	{Name: "network.macs", Type: texts, Title: "Hardware addresses"},
	{Name: "network.addresses", Type: texts, Title: "Network addresses"},
	{Name: "apps", Type: value.ListOf(value.Type{Kind: value.Record, Record: app}), Title: "Applications"},
}

// decode reads the JSON of one attribute's value.
func (a *Attribute) decode(raw json.RawMessage) (value.Value, error) {
	if a.Name == "certs" {
		return decodeCertificates(raw)
	}
	v, err := value.Decode(a.Type, raw)
	if err == nil && a.Name == "threat.score" && (v.Num() < 0 || v.Num() > 100) {
		return value.Value{}, fmt.Errorf("%d is not between 0 and 100", v.Num())
	}
	return v, err
}

// maxCertificates bounds the certificates in one report.
const maxCertificates = 200

func decodeCertificates(raw json.RawMessage) (value.Value, error) {
	if raw[0] != '[' {
		return value.Value{}, errors.New("expected a list of certificates")
	}
	list := []value.Value{}
	for p := range value.Elements(raw) {
		if len(list) == maxCertificates {
			return value.Value{}, fmt.Errorf("there are more than %d certificates", maxCertificates)
		}
		c, err := certificate.Decode(p)
		if err != nil {
			return value.Value{}, fmt.Errorf("certificate %d: %w", len(list), err)
		}
		list = append(list, c)
	}
	return value.OfList(list), nil
}

// Dictionary is the set of attributes in force: the standard ones and those a
// rulebook declares. It implements [condition.Dictionary], each attribute in
// the slot of its place in the list, in frame 0.
type Dictionary struct {
	list  []Attribute
	index map[string]int
	rank  []int // by slot: the place in alphabetical order

	sorted []int // the slots in alphabetical order
}

// DeviceFrame is the frame of an [condition.Env] that holds a device's attributes.
const DeviceFrame = 0

// NewDictionary returns the standard attributes and the custom ones.
func NewDictionary(custom ...Attribute) *Dictionary {
	d := &Dictionary{list: append(slices.Clone(standard), custom...),
		index: make(map[string]int, len(standard)+len(custom))}
	for i := range d.list {
		a := &d.list[i]
		d.index[a.Name] = i
		if a.Worse == 0 {
			a.Worse = worseOf(a.Type)
		}
	}
	names := slices.Sorted(maps.Keys(d.index))
	d.rank, d.sorted = make([]int, len(d.list)), make([]int, len(d.list))
	for i, name := range names {
		d.rank[d.index[name]], d.sorted[i] = i, d.index[name]
	}
	return d
}

// Attributes lists the attributes; the place in the list is the slot.
func (d *Dictionary) Attributes() []Attribute { return d.list }

// OfPlatform returns the frame of a device of which only its platform is known:
// with three values it tells what can be true of such devices.
func (d *Dictionary) OfPlatform(name string) condition.Frame {
	f, slot := condition.NewFrame(len(d.list)), d.Slot("platform")
	words := d.list[slot].Type.Enum
	f.Set(slot, value.OfEnum(words, words.Index(name)), condition.Always)
	return f
}

// Slot returns the slot of the attribute called name, or -1.
func (d *Dictionary) Slot(name string) int {
	if i, ok := d.index[name]; ok {
		return i
	}
	return -1
}

// Lookup implements [condition.Dictionary].
func (d *Dictionary) Lookup(name string) (condition.Name, bool) {
	i, ok := d.index[name]
	if !ok {
		return condition.Name{}, false
	}
	return condition.Name{Type: d.list[i].Type, Frame: DeviceFrame, Slot: i, Shown: !d.list[i].ByService}, true
}

// Names implements [condition.Dictionary].
func (d *Dictionary) Names() []string {
	names := make([]string, len(d.list))
	for i, a := range d.list {
		names[i] = a.Name
	}
	return names
}

// Covers reports whether a dotted prefix covers a name: "threat" covers
// "threat" and "threat.score" but not "threats", and "*" covers all.
func Covers(prefix, name string) bool {
	if prefix == "*" || prefix == name {
		return true
	}
	return strings.HasPrefix(name, prefix) && name[len(prefix)] == '.'
}
