package bearer

import (
	"crypto/sha256"
	"testing"

	"ironledger.example/internal/store"
)

func kept(id, name string, role Role, secret string) store.Token {
	h := sha256.Sum256([]byte(secret))
	return store.Token{ID: id, Name: name, Role: string(role), Hash: h[:], CreatedAt: 1, CreatedBy: "x"}
}

// A set finds live tokens alone, and the set it was made from stays as it was.
func TestATokenEnds(t *testing.T) {
	first := NewSet([]store.Token{kept("1", "astrid", Admin, "a"), kept("2", "edge", Enforcer, "b")})
	revoked := kept("2", "edge", Enforcer, "b")
	revoked.RevokedAt = 5
	then := first.With(revoked).With(kept("3", "bodil", Admin, "c"))
	if x, ok := first.Of("b"); !ok || x.Name != "edge" || first.Admins() != 1 || len(first.All) != 2 {
		t.Errorf("the first set is otherwise: %+v", first.All)
	}
	if _, ok := then.Of("b"); ok || then.Named("edge") || then.Admins() != 2 || len(then.All) != 3 {
		t.Errorf("what was revoked counts: %+v", then.All)
	}
	for _, id := range []string{"1", "astrid"} {
		if x, ok := then.Find(id); !ok || x.ID != "1" {
			t.Errorf("%s leads to %+v", id, x)
		}
	}
	for _, id := range []string{"2", "edge", "4", ""} {
		if x, ok := then.Find(id); ok {
			t.Errorf("%s leads to %+v", id, x)
		}
	}
	if _, ok := then.Of(""); ok {
		t.Error("no secret is one")
	}
}

// Each right belongs to the roles that need it, and none to a role that there is not.
func TestRights(t *testing.T) {
	for right, roles := range map[Permission][]Role{
		MayRead:    {Reader, Helpdesk, Author, Admin},
		MayAsk:     {Helpdesk, Author, Admin},
		MayPublish: {Author, Admin},
		MayDecide:  {Enforcer, Admin},
		MayReport:  {Source, Admin},
		MayWaive:   {Helpdesk, Author, Admin},
		MayVouch:   {Helpdesk, Author, Admin, Source},
		MayAdmin:   {Admin},
	} {
		may := map[Role]bool{}
		for _, r := range roles {
			may[r] = true
		}
		for _, r := range []Role{Reader, Helpdesk, Author, Admin, Enforcer, Source, "", "king"} {
			if r.May(right) != may[r] {
				t.Errorf("a %q may %s: %v", r, right, r.May(right))
			}
		}
	}
	if Role("king").Known() || !Source.Known() {
		t.Error("roles are not told from what is none")
	}
}

func TestSecretsDiffer(t *testing.T) {
	seen := map[string]bool{}
	for range 1000 {
		s := NewSecret()
		if seen[s] || len(s) < 40 {
			t.Fatalf("%q is made twice, or is short", s)
		}
		seen[s] = true
	}
}
