package rulebook

import (
	"regexp"
	"slices"

	"ironledger.example/core/authority"
	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/value"
)

// Authority says what our own certificate authority is called and what it grants.
type Authority struct {
	ID       string // by which conditions know it as an issuer
	Name     string // a domain, which its certificates and its devices' are named under
	Title    string
	Key      authority.Key
	Lifetime int64 // of its own certificate, in microseconds
	Profiles []Profile
}

// Profile is a kind of certificate that devices can be given.
type Profile struct {
	Where     Position
	ID        string
	Title     string
	Applies   *condition.Program // to which devices
	Lifetime  int64              // in microseconds
	RenewFrom int64              // how long before its end it is renewed, in microseconds
	Keys      []authority.Key
	Least     Level // a device below gets none
	Holds     int   // how many a device may have at a time
	Statement int64 // for how long a statement is at most, in microseconds
}

// The bounds of lifetimes, in microseconds.
const (
	shortestLife = value.Day / 24
	longestLife  = 398 * value.Day
	longestRoot  = 30 * 366 * value.Day
	MaxHolds     = 10
)

// DefaultStatement is for how long a statement is at most where no profile says, in microseconds.
const DefaultStatement = 15 * value.Minute

// Profile is the one of an id, nil for none.
func (a *Authority) Profile(id string) *Profile {
	if i := slices.IndexFunc(a.Profiles, func(p Profile) bool { return p.ID == id }); i >= 0 {
		return &a.Profiles[i]
	}
	return nil
}

// domain is what the name of an authority looks like: a host that a certificate can name (RFC 1123, section 2.1).
var domain = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?(\.[a-z0-9]([a-z0-9-]{0,61}[a-z0-9])?)+$`)

// authority reads the section of that name.
func (l *loader) authority() {
	f, ok := l.single("authority")
	if !ok {
		return
	}
	a := &Authority{ID: "house", Title: "Device authority", Key: authority.P256, Lifetime: 10 * 365 * value.Day}
	var profiles []item
	ok = f.mapping("an authority", map[string]func(field){
		"id":    func(f field) { f.id(&a.ID) },
		"title": func(f field) { f.text(&a.Title) },
		"name": func(f field) {
			if f.text(&a.Name); !domain.MatchString(a.Name) || len(a.Name) > authority.MaxID {
				f.fail("name is a domain in small letters, as gullholm.example, and no longer than %d characters",
					authority.MaxID)
			}
		},
		"key":      func(f field) { key(f, &a.Key) },
		"lifetime": func(f field) { life(f, &a.Lifetime, 30*value.Day, longestRoot) },
		"profiles": func(f field) { profiles = f.seq() },
	})
	if !ok {
		return
	}
	if a.Name == "" {
		f.fail("the authority needs name: a domain, as gullholm.example")
	}
	if slices.ContainsFunc(l.rb.Policy.Issuers, func(is certificate.Issuer) bool { return is.ID == a.ID }) {
		f.fail("there is an issuer %s too; give the authority another id", a.ID)
	}
	if len(a.Title) > 40 {
		f.fail("the title is longer than 40 bytes, and would not fit into a certificate")
	}
	seen := unique{}
	for _, it := range profiles {
		if p, ok := l.profile(it); ok && seen.add(it, "profiles", p.ID) {
			a.Profiles = append(a.Profiles, p)
		}
	}
	if len(a.Profiles) == 0 {
		f.fail("the authority has no profiles, and would grant nothing")
	}
	l.rb.Authority = a
}

func (l *loader) profile(it item) (Profile, bool) {
	p := Profile{Where: it.position(), Least: 1, Holds: 2, Statement: DefaultStatement,
		Keys: []authority.Key{authority.P256, authority.P384,
			authority.Ed25519}}
	renew := field{}
	ok := it.mapping("a profile", map[string]func(field){
		"id":         func(f field) { f.id(&p.ID) },
		"title":      func(f field) { f.text(&p.Title) },
		"applies":    func(f field) { p.Applies = f.condition(l.rb.Dict) },
		"lifetime":   func(f field) { life(f, &p.Lifetime, shortestLife, longestLife) },
		"renew_from": func(f field) { renew = f; f.duration(&p.RenewFrom) },
		"least":      func(f field) { l.level(f.item, &p.Least) },
		"statement":  func(f field) { life(f, &p.Statement, value.Minute, value.Day) },
		"keys": func(f field) {
			p.Keys = nil
			for _, k := range f.seq() {
				i, ok := k.word("kind of key", authority.Keys)
				if ok {
					p.Keys = append(p.Keys, authority.Key(authority.Keys[i]))
				}
			}
			if len(p.Keys) == 0 {
				f.fail("keys is a list, as [p256, ed25519]")
			}
		},
		"holds": func(f field) {
			v, ok := f.value(value.Of(value.Int))
			if p.Holds = int(v.Num()); ok && (v.Num() < 1 || v.Num() > MaxHolds) {
				f.fail("a device holds from 1 to %d certificates", MaxHolds)
			}
		},
	})
	if !ok || !l.named(it, "a profile", p.ID) {
		return p, false
	}
	if p.Applies == nil {
		p.Applies = always(l.rb.Dict)
	}
	if p.Lifetime == 0 {
		p.Lifetime = 30 * value.Day
	}
	switch {
	case renew.n == nil:
		p.RenewFrom = p.Lifetime / 3
	case p.RenewFrom <= 0 || p.RenewFrom >= p.Lifetime:
		renew.fail("renew_from is how long before its end a certificate is renewed: less than its lifetime of %s",
			value.FormatDuration(p.Lifetime))
	}
	return p, true
}

func key(f field, into *authority.Key) {
	if i, ok := f.word("kind of key", authority.Keys); ok {
		*into = authority.Key(authority.Keys[i])
	}
}

func life(f field, into *int64, least, most int64) {
	if f.duration(into); *into < least || *into > most {
		f.fail("a lifetime is between %s and %s here", value.FormatDuration(least), value.FormatDuration(most))
	}
}
