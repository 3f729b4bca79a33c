package mapping

import (
	"cmp"
	"encoding/json"
	"math"
	"slices"
	"strconv"
	"strings"
	"unicode"

	"ironledger.example/core/evidence"
	"ironledger.example/core/value"
)

// Place is somewhere in a partner's items, with what stands there, and what a mapping might make of it.
type Place struct {
	At     string   `json:"at"`     // a JSON Pointer
	Values []string `json:"values"` // some of those that stand there
	// Target is the key or the attribute that it might be, as identity.serial or
	// evidence.os.version; "" for none that we know by its name.
	Target string `json:"target,omitempty"`
	// Words, Form and Unit are how it might be read, as in a mapping.
	Words map[string]any `json:"words,omitempty"`
	Form  string         `json:"form,omitempty"`
	Unit  string         `json:"unit,omitempty"`
}

// What is looked at.
const (
	maxPlaces  = 200
	maxValues  = 5
	maxDeep    = 6
	maxShown   = 80 // bytes of a value
	unixFrom   = 1_000_000_000
	millisFrom = 100 * unixFrom
)

// called are the names under which inventories keep things, in small letters and without
// what parts them: whole names, the more telling first.
var called = []struct {
	target string
	names  []string
}{
	{"identity.serial", []string{"serial", "serialnumber", "serialno", "devserial"}},
	{"identity.hardware_id", []string{"hardwareid", "hwid", "hardwareuuid", "uuid", "machineid"}},
	{"identity.external_id", []string{"id", "deviceid", "ref", "key", "uid", "assetid", "asset"}},
	{"observed_at", []string{"observedat", "lastseen", "lastseenat", "seen", "lastcontact", "checkedat", "lastcheck",
		"updatedat", "reportedat"}},
	{"evidence.platform", []string{"platform", "osfamily", "systemfamily", "ostype", "family", "system"}},
	{"evidence.form", []string{"form", "formfactor", "kind", "devicetype", "class"}},
	{"evidence.model", []string{"model", "modelname"}},
	{"evidence.vendor", []string{"vendor", "maker", "manufacturer", "make"}},
	{"evidence.name", []string{"name", "hostname", "devicename", "computername"}},
	{"evidence.ownership", []string{"ownership", "ownertype", "ownedby"}},
	{"evidence.managed", []string{"managed", "ismanaged"}},
	{"evidence.owner", []string{"owner", "user", "username", "assignedto", "usermail", "email", "mail"}},
	{"evidence.os.version", []string{"osversion", "systemversion", "version"}},
	{"evidence.os.build", []string{"osbuild", "build"}},
	{"evidence.os.patched_at", []string{"patchedat", "lastpatched", "patchdate"}},
	{"evidence.storage.encrypted", []string{"encrypted", "encryption", "storageencrypted", "diskencryption",
		"diskencrypted", "isencrypted", "cipher"}},
	{"evidence.passcode.set", []string{"passcode", "passcodeset", "haspasscode", "pinset", "lock"}},
	{"evidence.passcode.length", []string{"passcodelength", "pinlength"}},
	{"evidence.screen_lock.after", []string{"screenlock", "screenlockafter", "locktimeout", "idlelock"}},
	{"evidence.firewall.on", []string{"firewall", "firewallon", "firewallenabled"}},
	{"evidence.antimalware.on", []string{"antimalware", "antivirus", "antimalwareon"}},
	{"evidence.antimalware.updated_at", []string{"antimalwareupdated", "signaturesupdated", "signaturedate"}},
	{"evidence.secure_boot", []string{"secureboot"}},
	{"evidence.tpm.present", []string{"tpm", "tpmpresent", "hastpm"}},
	{"evidence.integrity.tampered", []string{"tampered", "rooted", "istampered", "compromised"}},
	{"evidence.threat.score", []string{"threatscore", "riskscore", "score"}},
	{"evidence.threat.level", []string{"threatlevel", "risklevel", "risk"}},
}

// truths are the words for yes and no that need no explanation.
var truths = map[string]bool{"yes": true, "no": false, "on": true, "off": false, "enabled": true, "disabled": false,
	"true": true, "false": false, "y": true, "n": false, "1": true, "0": false, "set": true, "unset": false,
	"encrypted": true, "none": false, "present": true, "absent": false}

// Places tells what stands where in some items, and guesses what it might be. Nothing is
// mapped by it: a person looks at it and decides. Each target is guessed once.
func Places(items [][]byte, dict *evidence.Dictionary) []Place {
	var out []Place
	at := map[string]int{}
	for _, raw := range items {
		x, err := object(raw)
		if err != nil {
			continue
		}
		walk(x, "", 0, func(where string, v any) {
			i, seen := at[where]
			if !seen {
				if len(out) == maxPlaces {
					return
				}
				i = len(out)
				at[where] = i
				out = append(out, Place{At: where})
			}
			text := scalar(v)
			if p := &out[i]; len(p.Values) < maxValues && !slices.Contains(p.Values, text) {
				p.Values = append(p.Values, text)
			}
		})
	}
	guess(out, dict)
	for i := range out {
		for j, v := range out[i].Values {
			if len(v) > maxShown {
				out[i].Values[j] = strings.ToValidUTF8(v[:maxShown], "") + "…"
			}
		}
	}
	slices.SortStableFunc(out, func(a, b Place) int { return cmp.Compare(a.At, b.At) })
	return out
}

// walk visits what is no object in an item.
func walk(x any, at string, deep int, visit func(where string, v any)) {
	if o, is := x.(map[string]any); is && deep < maxDeep {
		for name, v := range o {
			walk(v, at+pointer{name}.String(), deep+1, visit)
		}
		return
	}
	if x != nil && x != "" {
		visit(at, x)
	}
}

// guess finds targets by names: by the last of a pointer and the one before, then by the
// last alone.
func guess(places []Place, dict *evidence.Dictionary) {
	taken := map[string]bool{}
	for _, parts := range []int{2, 1} {
		for _, c := range called {
			for _, name := range c.names {
				for i := range places {
					p := &places[i]
					if p.Target != "" || taken[c.target] || lastOf(p.At, parts) != name {
						continue
					}
					if p.fits(c.target, dict) {
						p.Target = c.target
						taken[c.target] = true
					}
				}
			}
		}
	}
}

// lastOf is the end of a pointer as one name.
func lastOf(at string, parts int) string {
	p, err := parsePointer(at)
	if err != nil || len(p) < parts {
		return ""
	}
	return strings.Map(func(r rune) rune {
		if unicode.IsLetter(r) || unicode.IsDigit(r) {
			return unicode.ToLower(r)
		}
		return -1
	}, strings.Join(p[len(p)-parts:], ""))
}

// fits finds how the values of a place are read for a target; false when they are nothing
// that it could be.
func (p *Place) fits(target string, dict *evidence.Dictionary) bool {
	typ := value.Of(value.Text)
	if target == "observed_at" {
		typ = value.Of(value.Time)
	}
	if name, is := strings.CutPrefix(target, "evidence."); is {
		n, known := dict.Lookup(name)
		if !known {
			return false
		}
		typ = n.Type
	}
	switch typ.Kind {
	case value.Bool:
		return p.words(func(v string) (any, bool) {
			b, known := truths[strings.ToLower(v)]
			return b,
				known
		}) == len(p.Values)
	case value.Enum:
		p.words(func(v string) (any, bool) {
			i := slices.IndexFunc(typ.Enum.Words, func(w string) bool { return strings.HasPrefix(strings.ToLower(v), w) })
			if i < 0 {
				return nil, false // a person knows it
			}
			return typ.Enum.Words[i], true
		})
		return true
	case value.Time:
		return p.all(func(v string) bool { _, err := moment(v, ""); return err == nil }, "") ||
			p.all(func(v string) bool { n, err := number(v); return err == nil && n >= millisFrom }, formUnixMillis) ||
			p.all(func(v string) bool { n, err := number(v); return err == nil && n >= unixFrom }, formUnix)
	case value.Duration:
		if !p.all(func(v string) bool { n, err := number(v); return err == nil && n >= 0 }, "") {
			return false
		}
		p.Unit = "s"
		return true
	case value.Int:
		return p.all(func(v string) bool {
			n, err := strconv.ParseFloat(v, 64)
			return err == nil &&
				n == math.Trunc(n)
		}, "")
	case value.Version:
		return p.all(func(v string) bool { _, err := value.Parse(typ, v); return err == nil }, "")
	}
	return !slices.ContainsFunc(p.Values, func(v string) bool { return strings.HasPrefix(v, "[") })
}

// all reports whether all values are of a form, and keeps its name.
func (p *Place) all(is func(string) bool, form string) bool {
	for _, v := range p.Values {
		if !is(v) {
			return false
		}
	}
	p.Form = form
	return true
}

// words finds our words for the partner's, and how many; none are needed where they are the same.
func (p *Place) words(of func(string) (any, bool)) int {
	words, same := map[string]any{}, true
	for _, v := range p.Values {
		w, known := of(v)
		if !known {
			continue
		}
		words[v] = w
		raw, err := json.Marshal(w)
		same = same && err == nil && strings.Trim(string(raw), `"`) == v
	}
	if !same {
		p.Words = words
	}
	return len(words)
}
