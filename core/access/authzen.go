package access

import (
	"errors"
	"fmt"
	"net/netip"
	"strings"

	"github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"ironledger.example/core/certificate"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/value"
)

// Evaluation is an access evaluation request of the OpenID AuthZEN
// Authorization API 1.0 (section 6). Members it does not know are ignored, as
// the specification asks; one that is given twice makes it invalid (RFC 7493,
// section 2.3), for two readers could take it for two questions.
type Evaluation struct {
	Action   Action   `json:"action"`
	Context  *Context `json:"context,omitempty"`
	Resource Entity   `json:"resource"`
	Subject  Entity   `json:"subject"`
}

// Entity is a subject or a resource (sections 5.1 and 5.2).
type Entity struct {
	ID   string `json:"id"`
	Type string `json:"type"`
}

// Action is what the subject wants to do (section 5.3).
type Action struct {
	Name string `json:"name"`
}

// Context is what we read of the context (section 5.4): the device, and how
// and from where the person comes.
type Context struct {
	Auth    *Auth      `json:"auth,omitempty"`
	Country string     `json:"country,omitempty"`
	Device  *DeviceRef `json:"device,omitempty"`
	IP      string     `json:"ip,omitempty"`
	Network *Joining   `json:"network,omitempty"`
	// Proof is how a device that joins a network proved which one it is, one of [rulebook.Proofs].
	Proof string `json:"proof,omitempty"`
}

// Joining is where a device joins a network, as its access point tells it.
type Joining struct {
	Address string `json:"address,omitempty"` // its hardware address, in lower case with colons
	At      string `json:"at,omitempty"`      // the address from which the access point asks
	Called  string `json:"called,omitempty"`  // what it called: the access point, and the network by its SSID
	// Claimed says that nobody proved who the person is: it is who the device says that it is used by.
	Claimed bool   `json:"claimed,omitempty"`
	Port    string `json:"port,omitempty"` // of the access point
}

// DeviceRef points at a device by one or more of its keys.
type DeviceRef struct {
	CertificateSHA256 string `json:"certificate_sha256,omitempty"`
	HardwareID        string `json:"hardware_id,omitempty"`
	ID                string `json:"id,omitempty"`
	Serial            string `json:"serial,omitempty"`
	// Untrusted is why the certificate does not identify its device; "" when it
	// does, or when that was not looked at.
	Untrusted string `json:"untrusted,omitempty"`
}

// Auth is how the person signed in.
type Auth struct {
	At      string   `json:"at,omitempty"`
	Methods []string `json:"methods,omitempty"`
	MFA     *bool    `json:"mfa,omitempty"`
}

// Response is an access evaluation response (section 6.2).
type Response struct {
	Decision bool            `json:"decision"`
	Context  ResponseContext `json:"context"`
}

// ResponseContext is the decision with the id under which it is recorded.
type ResponseContext struct {
	ID string `json:"id,omitempty"`
	*Decision
}

// FieldError says which member of a request is wrong.
type FieldError struct {
	Pointer string // RFC 6901
	Message string
}

func (e *FieldError) Error() string { return e.Pointer + ": " + e.Message }

// ParseEvaluation reads and checks a request. The error is a [*FieldError]
// where one member is to blame.
func ParseEvaluation(raw []byte) (*Evaluation, error) {
	var e Evaluation
	if err := read(raw, &e); err != nil {
		return nil, err
	}
	return &e, e.Check()
}

// read reads JSON as a part of a request. The error is a [*FieldError] where
// one member has another type than was expected.
func read(raw []byte, into any) error {
	err := json.Unmarshal(raw, into)
	var typ *json.SemanticError
	var syntax *jsontext.SyntacticError
	switch {
	case err == nil:
		return nil
	case errors.Is(err, jsontext.ErrDuplicateName) && errors.As(err, &syntax):
		return &FieldError{string(syntax.JSONPointer),
			"this stands twice: two readers could take it for two questions"}
	case errors.As(err, &syntax):
		return fmt.Errorf("not valid JSON at byte %d: %w", syntax.ByteOffset, syntax.Err)
	case errors.As(err, &typ):
		return &FieldError{string(typ.JSONPointer),
			fmt.Sprintf("a JSON %s is not what was expected here", kinds[typ.JSONKind.String()])}
	}
	return fmt.Errorf("not valid JSON: %w", err)
}

// kinds names the kinds of JSON values (RFC 8259, section 3).
var kinds = map[string]string{"null": "null", "true": "bool", "false": "bool", "string": "string",
	"number": "number", "{": "object", "[": "array"}

// Check reports the first member that is missing or malformed.
func (e *Evaluation) Check() error {
	for _, m := range []struct{ pointer, text string }{
		{"/subject/type", e.Subject.Type}, {"/subject/id", e.Subject.ID}, {"/action/name", e.Action.Name},
		{"/resource/type", e.Resource.Type}, {"/resource/id", e.Resource.ID},
	} {
		if m.text == "" {
			return &FieldError{m.pointer, "required, a text that is not empty"}
		}
		if len(m.text) > 500 {
			return &FieldError{m.pointer, "longer than 500 bytes"}
		}
	}
	c := e.Context
	if c == nil {
		return nil
	}
	if c.IP != "" {
		if _, err := netip.ParseAddr(c.IP); err != nil {
			return &FieldError{"/context/ip", fmt.Sprintf("%q is not an IP address", c.IP)}
		}
	}
	if c.Country != "" && len(c.Country) != 2 {
		return &FieldError{"/context/country", "a country code has two letters (ISO 3166-1)"}
	}
	if c.Proof != "" && rulebook.Proofs.Enum.Index(c.Proof) < 0 {
		return &FieldError{"/context/proof", fmt.Sprintf("%q is none of %s", c.Proof,
			strings.Join(rulebook.Proofs.Enum.Words, ", "))}
	}
	if c.Auth != nil && c.Auth.At != "" {
		if _, err := value.ParseTime(c.Auth.At); err != nil {
			return &FieldError{"/context/auth/at", err.Error()}
		}
	}
	return nil
}

// Keys lists what the request says about its device, strongest first; empty
// when it speaks of none.
func (e *Evaluation) Keys() []evidence.Key {
	var ref DeviceRef
	if e.Context != nil && e.Context.Device != nil {
		ref = *e.Context.Device
	}
	if e.Subject.Type == "device" && ref.ID == "" && (e.Context == nil || e.Context.Network == nil) {
		ref.ID = e.Subject.ID
	}
	var keys []evidence.Key
	for _, k := range []evidence.Key{
		evidence.Folded(evidence.ByID, ref.ID), evidence.Folded(evidence.ByHardware, ref.HardwareID),
		evidence.Folded(evidence.BySerial, ref.Serial),
		evidence.Folded(evidence.ByCertificate, ref.CertificateSHA256),
	} {
		if k.Text != "" {
			keys = append(keys, k)
		}
	}
	return keys
}

// Find looks up the device of a request. Keys that point at two devices, or
// one that points at none beside one that does, make it unknown: doubt lowers
// trust.
func (e *Evaluation) Find(find func(evidence.Key) (string, bool)) (device string, ok bool) {
	for _, k := range e.Keys() {
		id, found := find(k)
		if !found || device != "" && device != id {
			return "", false
		}
		device = id
	}
	return device, device != ""
}

// Missed says, in a clause, that Find found no device; "" for a request that
// names none.
func (e *Evaluation) Missed() string {
	keys := e.Keys()
	switch {
	case len(keys) == 0 && e.Context != nil && e.Context.Network != nil:
		return "no one device is known by the hardware address " + e.Context.Network.Address
	case len(keys) == 0:
		return ""
	case e.Context != nil && e.Context.Device != nil && e.Context.Device.Untrusted != "":
		return "the certificate that the connection showed identifies no device: " + e.Context.Device.Untrusted
	}
	parts := make([]string, len(keys))
	for i, k := range keys {
		parts[i] = string(k.Kind) + " " + k.Text
	}
	return "no one device is known by " + strings.Join(parts, " and ")
}

// ShowsCertificate reports whether the request names a certificate of which the
// connection proved possession.
func (e *Evaluation) ShowsCertificate() bool {
	return e.Context != nil && e.Context.Device != nil && e.Context.Device.CertificateSHA256 != ""
}

// Certified reports whether the certificate that the request names, if any, is
// one that points at the device found. issued tells that of a SHA-256 in hex.
func (e *Evaluation) Certified(issued func(sha256 string) bool) bool {
	return !e.ShowsCertificate() || e.Context.Device.Untrusted == "" && issued(e.Context.Device.CertificateSHA256)
}

// Proof reports whether the connection proved possession of a certificate that
// is trusted for the device with these certificates; nil when the request names
// none or that is not known.
func (e *Evaluation) Proof(certs value.Value) *bool {
	if !e.ShowsCertificate() {
		return nil
	}
	trusted, known := certificate.Proven(certs, e.Context.Device.CertificateSHA256)
	if !known {
		return nil
	}
	return &trusted
}

// Prove has a request say what [Evaluation.Proof] finds, and of which certificate.
func (e *Evaluation) Prove(q *Request, certs value.Value) {
	q.CertificateProfile, q.CertificateAt = "", 0
	if q.Certificate = e.Proof(certs); q.Certificate == nil || !*q.Certificate {
		return
	}
	for _, c := range certs.Members() {
		if strings.EqualFold(certificate.Field(c, "sha256").Str(), e.Context.Device.CertificateSHA256) {
			q.CertificateProfile, q.CertificateAt = certificate.Field(c, "profile").Str(),
				certificate.Field(c, "not_before").Num()
		}
	}
}

// Request is the question of a checked evaluation. The caller fills in the
// device and the groups of the person.
func (e *Evaluation) Request() *Request {
	q := &Request{Resource: e.Resource.ID, Action: e.Action.Name}
	if e.Subject.Type != "device" {
		q.User = e.Subject.ID
	}
	c := e.Context
	if c == nil {
		return q
	}
	if ip, err := netip.ParseAddr(c.IP); err == nil {
		q.IP = ip.Unmap().WithZone("")
	}
	q.Country, q.Proof = c.Country, c.Proof
	q.Claimed = c.Network != nil && c.Network.Claimed
	q.Shown = e.ShowsCertificate()
	if a := c.Auth; a != nil {
		q.MFA, q.Methods = a.MFA, a.Methods
		if a.At != "" {
			if t, err := value.ParseTime(a.At); err == nil {
				q.AuthAt = t.Num()
			}
		}
	}
	return q
}

// Answer wraps a decision as a response; it is true only for allow.
func Answer(id string, d *Decision) *Response {
	return &Response{Decision: d.Outcome == Allow, Context: ResponseContext{id, d}}
}
