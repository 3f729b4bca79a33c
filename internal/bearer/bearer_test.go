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
	first := NewSet([]store.Token{kept("1", "astrid", Admin, "a"), kept("2", "edge", Enforcer, "b")}, nil)
	revoked := kept("2", "edge", Enforcer, "b")
	revoked.RevokedAt = 5
	then := first.With(revoked).With(kept("3", "bodil", Admin, "c"))
	if x, ok := first.Of("b", 9); !ok || x.Name != "edge" || first.Admins(9) != 1 || len(first.All) != 2 {
		t.Errorf("the first set is otherwise: %+v", first.All)
	}
	if _, ok := then.Of("b", 9); ok || then.Named("edge", 9) || then.Admins(9) != 2 || len(then.All) != 3 {
		t.Errorf("what was revoked counts: %+v", then.All)
	}
	for _, id := range []string{"1", "astrid"} {
		if x, ok := then.Find(id, 9); !ok || x.ID != "1" {
			t.Errorf("%s leads to %+v", id, x)
		}
	}
	for _, id := range []string{"2", "edge", "4", ""} {
		if x, ok := then.Find(id, 9); ok {
			t.Errorf("%s leads to %+v", id, x)
		}
	}
	if _, ok := then.Of("", 9); ok {
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

// A token that ends by itself does so at its moment, and of two with a name the one that lasts is meant.
func TestATokenEndsByItself(t *testing.T) {
	set := NewSet([]store.Token{kept("1", "edge", Enforcer, "a"), kept("2", "edge", Enforcer, "b"),
		kept("3", "boss", Admin, "c")}, map[string]int64{"1": 100}).Ending("3", 200)
	for now, want := range map[int64][3]bool{99: {true, true, true}, 100: {false, true, true}, 199: {false, true, true},
		200: {false, true, false}} {
		for i, secret := range []string{"a", "b", "c"} {
			if _, live := set.Of(secret, now); live != want[i] {
				t.Errorf("at %d the secret %s is good: %v", now, secret, live)
			}
		}
	}
	if set.Admins(199) != 1 || set.Admins(200) != 0 || set.Named("boss", 200) || !set.Named("edge", 200) {
		t.Error("who has ended is counted")
	}
	if x, ok := set.Find("edge", 50); !ok || x.ID != "2" {
		t.Errorf("edge is %+v", x)
	}
	if _, ok := set.Find("1", 100); ok {
		t.Error("one that has ended is found")
	}
	if set.Ending("2", 5).Ends("2") != 5 || set.Ends("2") != 0 || set.Public(set.All[0]).EndsAt == "" {
		t.Error("a set that was read changed, or does not tell when a token ends")
	}
}
