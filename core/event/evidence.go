package event

import (
	"fmt"
	"strings"

	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
)

// EvidenceRefused is what one request brought that was not taken.
type EvidenceRefused struct {
	Device     string    `json:"-"`                    // whose reports they were; "" for more than one
	Reports    int       `json:"reports,omitempty"`    // refused as a whole
	Attributes int       `json:"attributes,omitempty"` // of others
	Unmatched  int       `json:"unmatched,omitempty"`  // reports kept aside
	Examples   []Refusal `json:"examples"`
}

// Refusal is one thing that was refused.
type Refusal struct {
	Attribute string `json:"attribute,omitempty"`
	Device    string `json:"device,omitempty"`
	Line      int    `json:"line"`
	Message   string `json:"message"`
	Unmatched string `json:"unmatched,omitempty"`
}

// Kind is [ledger.EvidenceRefused].
func (*EvidenceRefused) Kind() ledger.Kind { return ledger.EvidenceRefused }

// About is the device, if it was one.
func (r *EvidenceRefused) About() string { return r.Device }

func (r *EvidenceRefused) tell(about string) { r.Device = about }

// AppendBody appends the body.
func (r *EvidenceRefused) AppendBody(b []byte) []byte { return appendCanonical(b, r) }

// Gist tells how much, and the first of it.
func (r *EvidenceRefused) Gist() string {
	var parts []string
	if r.Attributes > 0 {
		parts = append(parts, fmt.Sprintf("%d attributes", r.Attributes))
	}
	if r.Reports > 0 {
		parts = append(parts, fmt.Sprintf("%d reports", r.Reports))
	}
	text := strings.Join(parts, ", ")
	if len(r.Examples) > 0 {
		x := r.Examples[0]
		text += ": " + strings.Trim(x.Attribute+": "+x.Message, ": ")
	}
	return strings.Trim(text, ": ")
}

// DeviceKeyed is keys that a device gained or lost.
type DeviceKeyed struct {
	Device string         `json:"-"`
	Gained []evidence.Key `json:"gained,omitempty"`
	Lost   []evidence.Key `json:"lost,omitempty"`
	Reason string         `json:"reason,omitempty"`
	Source string         `json:"source,omitempty"` // whose report made it so
	// From and To are the devices between which keys moved.
	From string `json:"from,omitempty"`
	To   string `json:"to,omitempty"`
}

// maxKeys bounds how many keys an entry tells each way.
const maxKeys = 100

// Kind is [ledger.DeviceKeyed].
func (*DeviceKeyed) Kind() ledger.Kind { return ledger.DeviceKeyed }

// About is the device.
func (k *DeviceKeyed) About() string { return k.Device }

func (k *DeviceKeyed) tell(about string) { k.Device = about }

// AppendBody appends the body: every new device has one.
func (k *DeviceKeyed) AppendBody(b []byte) []byte {
	o := value.Object(b).Open().Word("from", k.From)
	list := func(name string, keys []evidence.Key) {
		if len(keys) == 0 {
			return
		}
		o = o.List(name)
		for _, key := range keys[:min(len(keys), maxKeys)] {
			o = o.Element().Open().Text("kind", string(key.Kind)).Text("text", key.Text).Close()
		}
		o = o.EndList()
	}
	list("gained", k.Gained)
	list("lost", k.Lost)
	return o.Word("reason", k.Reason).Word("source", k.Source).Word("to", k.To).Close()
}

// Gist tells which keys.
func (k *DeviceKeyed) Gist() string {
	var parts []string
	for _, key := range k.Gained {
		parts = append(parts, "gained "+string(key.Kind)+" "+key.Text)
	}
	for _, key := range k.Lost {
		parts = append(parts, "lost "+string(key.Kind)+" "+key.Text)
	}
	return strings.Join(parts, ", ")
}

// MovedKey is a key that is taken from one device and given to another.
type MovedKey struct {
	Kind evidence.KeyKind `json:"kind"`
	Text string           `json:"text"`
	From string           `json:"from,omitempty"` // "" for one that nobody had
	To   string           `json:"to,omitempty"`   // "" for one that nobody has any more
}

// DeviceSettled is a report that was kept aside and joined to a device.
type DeviceSettled struct {
	Device    string     `json:"-"`
	Unmatched string     `json:"unmatched"` // the id under which it waited
	Source    string     `json:"source"`
	Reason    string     `json:"reason"`
	Moved     []MovedKey `json:"moved,omitempty"`
}

// Kind is [ledger.DeviceSettled].
func (*DeviceSettled) Kind() ledger.Kind { return ledger.DeviceSettled }

// About is the device.
func (s *DeviceSettled) About() string { return s.Device }

func (s *DeviceSettled) tell(about string) { s.Device = about }

// AppendBody appends the body.
func (s *DeviceSettled) AppendBody(b []byte) []byte { return appendCanonical(b, s) }

// Gist tells why.
func (s *DeviceSettled) Gist() string { return s.Reason }

// ReportDiscarded is a report that was kept aside and thrown away.
type ReportDiscarded struct {
	Unmatched string `json:"-"` // the id under which it waited
	Source    string `json:"source"`
	Reason    string `json:"reason"`
}

// Kind is [ledger.ReportDiscarded].
func (*ReportDiscarded) Kind() ledger.Kind { return ledger.ReportDiscarded }

// About is the report.
func (r *ReportDiscarded) About() string { return r.Unmatched }

func (r *ReportDiscarded) tell(about string) { r.Unmatched = about }

// AppendBody appends the body.
func (r *ReportDiscarded) AppendBody(b []byte) []byte { return appendCanonical(b, r) }

// Gist tells why.
func (r *ReportDiscarded) Gist() string { return r.Reason }

// EvidenceGone is a source that lists devices no longer, of which it had said something.
type EvidenceGone struct {
	Source  string   `json:"source"`
	Devices int      `json:"devices"`
	Some    []string `json:"some"`             // of them
	Held    string   `json:"held,omitempty"`   // why nothing was taken back; "" when it was
	Reason  string   `json:"reason,omitempty"` // why it was taken back although they are many
}

// Kind is [ledger.EvidenceGone].
func (*EvidenceGone) Kind() ledger.Kind { return ledger.EvidenceGone }

// About is the source.
func (g *EvidenceGone) About() string { return g.Source }

// AppendBody appends the body.
func (g *EvidenceGone) AppendBody(b []byte) []byte { return appendCanonical(b, g) }

// Gist tells how many, and whether that was held back.
func (g *EvidenceGone) Gist() string {
	text := fmt.Sprintf("%d devices are no longer listed by %s", g.Devices, g.Source)
	if g.Held != "" {
		text += "; held back: " + g.Held
	}
	return text
}
