package evidence

import (
	"fmt"
	"strings"

	"ironledger.example/core/certificate"
	"ironledger.example/core/value"
)

// KeyKind tells how a key points at a device.
type KeyKind string

// The kinds of key, in the order in which they are asked.
const (
	ByExternal KeyKind = "external_id"
	ByID       KeyKind = "id"
	ByHardware KeyKind = "hardware_id"
	BySerial   KeyKind = "serial"
	// ByCertificate is the SHA-256 of a certificate the device has shown, in hex.
	ByCertificate KeyKind = "certificate_sha256"
)

// Key points at a device.
type Key struct {
	Kind KeyKind
	Text string // case folded for hardware ids and serials
}

// Folded returns a key with its text in the form in which keys are compared.
func Folded(kind KeyKind, text string) Key {
	text = strings.TrimSpace(text)
	if kind != ByID && kind != ByExternal {
		text = strings.ToLower(text)
	}
	return Key{kind, text}
}

// Keys lists what the report says about which device it is from, strongest first.
func (r *Report) Keys() []Key { return r.keys }

// Identified returns the report with the keys that its identity gives, for one
// that was not parsed.
func (r *Report) Identified() *Report {
	r.keys = r.findKeys()
	return r
}

func (r *Report) findKeys() []Key {
	keys := make([]Key, 0, 4)
	add := func(kind KeyKind, text string) {
		if k := Folded(kind, text); k.Text != "" {
			keys = append(keys, k)
		}
	}
	if r.ExternalID != "" {
		add(ByExternal, r.Source+":"+r.ExternalID)
	}
	add(ByID, r.Identity.ID)
	add(ByHardware, r.Identity.HardwareID)
	add(BySerial, r.Identity.Serial)
	return keys
}

// ConflictError says that the keys of one report point at several devices.
type ConflictError struct {
	Keys    []Key
	Devices []string
}

func (e *ConflictError) Error() string {
	parts := make([]string, len(e.Keys))
	for i, k := range e.Keys {
		parts[i] = fmt.Sprintf("%s %s is device %s", k.Kind, k.Text, e.Devices[i])
	}
	return "the report points at different devices: " + strings.Join(parts, ", ")
}

// Join finds the device a report is about by asking find for each of its keys.
// It returns the id a new device gets, and known false, when no key is known.
// Keys that point at different devices are a [*ConflictError]; nothing is guessed.
func Join(r *Report, find func(Key) (device string, ok bool)) (device string, known bool, err error) {
	conflict := false
	for _, k := range r.Keys() {
		if id, ok := find(k); ok {
			conflict = conflict || device != "" && device != id
			device = id
		}
	}
	if conflict {
		e := &ConflictError{}
		for _, k := range r.Keys() {
			if id, ok := find(k); ok {
				e.Keys, e.Devices = append(e.Keys, k), append(e.Devices, id)
			}
		}
		return "", false, e
	}
	if device != "" {
		return device, true, nil
	}
	switch {
	case r.Identity.ID != "":
		return r.Identity.ID, false, nil
	case r.Identity.Serial != "":
		return r.Identity.Serial, false, nil
	case r.Identity.HardwareID != "":
		return r.Identity.HardwareID, false, nil
	}
	return r.Source + ":" + r.ExternalID, false, nil
}

// CertificateKeys lists the keys of a value of the attribute certs.
func CertificateKeys(certs value.Value) []Key {
	i := certificate.Type.Index("sha256")
	var keys []Key
	for _, c := range certs.Members() {
		keys = append(keys, Folded(ByCertificate, c.FieldAt(i).Str()))
	}
	return keys
}
