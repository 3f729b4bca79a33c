package rulebook

import (
	"slices"
	"strconv"
	"strings"

	"ironledger.example/core/condition"
	"ironledger.example/core/rulebook/tree"
	"ironledger.example/core/value"
)

// Who a network takes the person for who joins it.
const (
	PersonOwner       = "owner"       // of the device, as evidence says
	PersonCertificate = "certificate" // whom the device's certificate names
	PersonClaimed     = "identity"    // who the device says that it is used by; nobody proved it
)

// PersonsOnNetworks are all of them, the default first.
var PersonsOnNetworks = []string{PersonOwner, PersonCertificate, PersonClaimed}

// How a device that joins a network proved which one it is, as conditions see it.
const (
	ProofCertificate = "certificate" // by the key of its certificate
	ProofAddress     = "address"     // by its hardware address, which anybody can copy
)

// Proofs is their type in conditions.
var Proofs = value.Words("proof", false, ProofCertificate, ProofAddress)

// How long an admission lasts, in microseconds.
const (
	DefaultAdmission = value.Day / 24
	leastAdmission   = value.Day / 24 / 60
	mostAdmission    = 7 * value.Day
)

// Network is a resource that devices join: what an admission to it carries.
type Network struct {
	Where  Position
	ID     string   // of the resource
	SSIDs  []string // by which access points call it
	Person string   // one of PersonsOnNetworks
	Grants []Grant
}

// Grant is what an admission carries, for those of whom its condition is true and that of none before it.
type Grant struct {
	Where   Position
	ID      string // or its place among the grants, from 1
	When    *condition.Program
	VLAN    string // a number or a name; "" leaves it to the access point
	Filter  string // the name of a list of rules that the access point has; "" for none
	Session int64  // microseconds
	// Recover says that it is a place to get well in, for devices that would not be let in elsewhere.
	Recover    bool
	Attributes []NetworkAttribute
}

// NetworkAttribute is one more attribute of RADIUS that an admission carries.
type NetworkAttribute struct {
	Name  string // of RadiusAttributes, or VENDOR.TYPE
	Value string
}

// RadiusAttributes are those that a rulebook can name, with their numbers and whether their value is a whole number of
// 32 bits (RFC 2865, 2866, 2869, 4849).
var RadiusAttributes = map[string]struct {
	Type    byte
	Integer bool
}{
	"Reply-Message": {18, false}, "Idle-Timeout": {28, true}, "Acct-Interim-Interval": {85, true},
	"Framed-Pool": {88, false}, "NAS-Filter-Rule": {92, false},
}

// Network is the one of a resource, nil for none.
func (rb *Rulebook) Network(resource string) *Network {
	if i := slices.IndexFunc(rb.Networks, func(n Network) bool { return n.ID == resource }); i >= 0 {
		return &rb.Networks[i]
	}
	return nil
}

// NetworkCalled is the one that access points call by an SSID, nil for none.
func (rb *Rulebook) NetworkCalled(ssid string) *Network {
	if i := slices.IndexFunc(rb.Networks, func(n Network) bool { return slices.Contains(n.SSIDs, ssid) }); i >= 0 {
		return &rb.Networks[i]
	}
	return nil
}

func (l *loader) networks() {
	seen, called := unique{}, map[string]string{}
	ids := make([]string, len(l.rb.Resources))
	for i, r := range l.rb.Resources {
		ids[i] = r.ID
	}
	for _, it := range l.members("networks") {
		n := Network{Where: it.Position(), Person: PersonOwner}
		said := false
		ok := it.Mapping("a network", map[string]func(tree.Field){
			"id": func(f tree.Field) {
				if i, ok := f.Word("resource", ids); ok {
					n.ID = ids[i]
				}
			},
			"ssids":  func(f tree.Field) { n.SSIDs = l.ssids(f) },
			"person": func(f tree.Field) { n.Person = chosen(f, "person on a network", PersonsOnNetworks) },
			"grants": func(f tree.Field) { said = true; n.Grants = l.grants(f) },
			"otherwise": func(f tree.Field) {
				f.Word("choice for devices that no grant is for", []string{"reject"})
			},
		})
		if !ok || !l.named(it, "a network", n.ID) || !seen.add(it, "networks", n.ID) {
			continue
		}
		if !said || len(n.Grants) == 0 {
			it.Fail("the network %s needs grants: what an admission carries, and when", n.ID)
		}
		for _, s := range n.SSIDs {
			if other := called[s]; other != "" {
				it.Fail("the networks %s and %s are both called %s", other, n.ID, s)
			}
			called[s] = n.ID
		}
		l.rb.Networks = append(l.rb.Networks, n)
	}
}

// ssids reads the names by which access points call a network (IEEE 802.11: at most 32 bytes).
func (l *loader) ssids(f tree.Field) []string {
	list := f.Texts()
	for _, s := range list {
		if len(s) == 0 || len(s) > 32 {
			f.Fail("an SSID has 1 to 32 bytes, and %q has %d", s, len(s))
		}
	}
	return list
}

func (l *loader) grants(f tree.Field) (out []Grant) {
	seen := unique{}
	for i, it := range f.Seq() {
		g := Grant{Where: it.Position(), ID: strconv.Itoa(i + 1), Session: DefaultAdmission}
		ok := it.Mapping("a grant", map[string]func(tree.Field){
			"id":         func(f tree.Field) { f.ID(&g.ID) },
			"when":       func(f tree.Field) { g.When = f.Condition(l.rb.Names) },
			"vlan":       func(f tree.Field) { g.VLAN = vlan(f) },
			"filter":     func(f tree.Field) { g.Filter = radiusText(f, f.Said()) },
			"session":    func(f tree.Field) { admission(f, &g.Session) },
			"recover":    func(f tree.Field) { f.Boolean(&g.Recover) },
			"attributes": func(f tree.Field) { g.Attributes = radiusAttributes(f) },
		})
		if !ok || !seen.add(it, "grants", g.ID) {
			continue
		}
		if g.When == nil {
			it.Fail("the grant %s needs when: the condition under which it is given, true for everybody", g.ID)
			continue
		}
		out = append(out, g)
	}
	return out
}

// admission reads how long an admission lasts.
func admission(f tree.Field, into *int64) {
	if f.Duration(into); *into < leastAdmission || *into > mostAdmission {
		f.Fail("an admission lasts between 1m and 7d")
		*into = DefaultAdmission
	}
}

// vlan reads the number of a VLAN (IEEE 802.1Q: 1 to 4094), or the name by which access points know one.
func vlan(f tree.Field) string {
	said := radiusText(f, f.Said())
	if n, err := strconv.Atoi(said); err == nil && (n < 1 || n > 4094 || strconv.Itoa(n) != said) {
		f.Fail("the number of a VLAN is between 1 and 4094")
		return ""
	}
	return said
}

// radiusText checks a text that goes into an attribute: what is left of 253 bytes when a tag stands before it.
func radiusText(f tree.Field, said string) string {
	if said == "" || len(said) > 252 || strings.ContainsFunc(said, func(r rune) bool { return r < ' ' || r == 0x7f }) {
		f.Fail("this is a text of 1 to 252 bytes on one line")
		return ""
	}
	return said
}

// radiusAttributes reads more attributes: by their names, or by the number of a vendor and of its attribute.
func radiusAttributes(f tree.Field) (out []NetworkAttribute) {
	fields, _ := f.Fields()
	names := []string{}
	for name := range RadiusAttributes {
		names = append(names, name)
	}
	slices.Sort(names)
	for _, a := range fields {
		known, is := RadiusAttributes[a.Key]
		if _, _, vendor := VendorAttribute(a.Key); !is && !vendor {
			hint := strings.Join(names, ", ")
			if near := condition.Nearest(a.Key, names); near != "" {
				hint = "did you mean " + near + "?"
			}
			a.KeyAt.Fail("%s is no attribute that an admission can carry: %s, or VENDOR.TYPE by their numbers", a.Key,
				hint)
			continue
		}
		said := radiusText(a, a.Said())
		if _, err := strconv.ParseUint(said, 10, 32); known.Integer && err != nil {
			a.Fail("%s is a whole number of at most 32 bits", a.Key)
			continue
		}
		out = append(out, NetworkAttribute{a.Key, said})
	}
	return out
}

// VendorAttribute reads the number of a vendor (IANA, SMI Private Enterprise) and of one of its attributes, as 64999.1
// (RFC 2865, section 5.26).
func VendorAttribute(name string) (vendor uint32, typ byte, ok bool) {
	first, second, _ := strings.Cut(name, ".")
	v, err := strconv.ParseUint(first, 10, 24)
	t, err2 := strconv.ParseUint(second, 10, 8)
	return uint32(v), byte(t), err == nil && err2 == nil && v > 0 && t > 0
}
