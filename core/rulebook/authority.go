package rulebook

import (
	"regexp"
	"slices"

	"ironledger.example/core/authority"
	"ironledger.example/core/certificate"
	"ironledger.example/core/condition"
	"ironledger.example/core/rulebook/tree"
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
	var profiles []tree.Item
	ok = f.Mapping("an authority", map[string]func(tree.Field){
		"id":    func(f tree.Field) { f.ID(&a.ID) },
		"title": func(f tree.Field) { f.Text(&a.Title) },
		"name": func(f tree.Field) {
			if f.Text(&a.Name); !domain.MatchString(a.Name) || len(a.Name) > authority.MaxID {
				f.Fail("name is a domain in small letters, as gullholm.example, and no longer than %d characters",
					authority.MaxID)
			}
		},
		"key":      func(f tree.Field) { key(f, &a.Key) },
		"lifetime": func(f tree.Field) { life(f, &a.Lifetime, 30*value.Day, longestRoot) },
		"profiles": func(f tree.Field) { profiles = f.Seq() },
	})
	if !ok {
		return
	}
	if a.Name == "" {
		f.Fail("the authority needs name: a domain, as gullholm.example")
	}
	if slices.ContainsFunc(l.rb.Policy.Issuers, func(is certificate.Issuer) bool { return is.ID == a.ID }) {
		f.Fail("there is an issuer %s too; give the authority another id", a.ID)
	}
	if len(a.Title) > 40 {
		f.Fail("the title is longer than 40 bytes, and would not fit into a certificate")
	}
	seen := unique{}
	for _, it := range profiles {
		if p, ok := l.profile(it); ok && seen.add(it, "profiles", p.ID) {
			a.Profiles = append(a.Profiles, p)
		}
	}
	if len(a.Profiles) == 0 {
		f.Fail("the authority has no profiles, and would grant nothing")
	}
	l.rb.Authority = a
}

func (l *loader) profile(it tree.Item) (Profile, bool) {
	p := Profile{Where: it.Position(), Least: 1, Holds: 2, Statement: DefaultStatement,
		Keys: []authority.Key{authority.P256, authority.P384,
			authority.Ed25519}}
	renew := tree.Field{}
	ok := it.Mapping("a profile", map[string]func(tree.Field){
		"id":         func(f tree.Field) { f.ID(&p.ID) },
		"title":      func(f tree.Field) { f.Text(&p.Title) },
		"applies":    func(f tree.Field) { p.Applies = f.Condition(l.rb.Dict) },
		"lifetime":   func(f tree.Field) { life(f, &p.Lifetime, shortestLife, longestLife) },
		"renew_from": func(f tree.Field) { renew = f; f.Duration(&p.RenewFrom) },
		"least":      func(f tree.Field) { l.level(f.Item, &p.Least) },
		"statement":  func(f tree.Field) { life(f, &p.Statement, value.Minute, value.Day) },
		"keys": func(f tree.Field) {
			p.Keys = nil
			for _, k := range f.Seq() {
				i, ok := k.Word("kind of key", authority.Keys)
				if ok {
					p.Keys = append(p.Keys, authority.Key(authority.Keys[i]))
				}
			}
			if len(p.Keys) == 0 {
				f.Fail("keys is a list, as [p256, ed25519]")
			}
		},
		"holds": func(f tree.Field) {
			v, ok := f.Value(value.Of(value.Int))
			if p.Holds = int(v.Num()); ok && (v.Num() < 1 || v.Num() > MaxHolds) {
				f.Fail("a device holds from 1 to %d certificates", MaxHolds)
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
	case renew.Absent():
		p.RenewFrom = p.Lifetime / 3
	case p.RenewFrom <= 0 || p.RenewFrom >= p.Lifetime:
		renew.Fail("renew_from is how long before its end a certificate is renewed: less than its lifetime of %s",
			value.FormatDuration(p.Lifetime))
	}
	return p, true
}

func key(f tree.Field, into *authority.Key) {
	if i, ok := f.Word("kind of key", authority.Keys); ok {
		*into = authority.Key(authority.Keys[i])
	}
}

func life(f tree.Field, into *int64, least, most int64) {
	if f.Duration(into); *into < least || *into > most {
		f.Fail("a lifetime is between %s and %s here", value.FormatDuration(least), value.FormatDuration(most))
	}
}
