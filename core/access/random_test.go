package access

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ironledger.example/core/rulebook"
)

// naive decides by asking every gate of the rulebook, as section 7 of the
// design tells it, without an index.
func naive(p *Program, q *Request, tags []string) Outcome {
	if slices.Contains(p.rb.BreakGlass, q.User) && q.Proof != rulebook.ProofAddress && !q.Claimed {
		return Allow
	}
	matched, denied := false, false
	for _, g := range p.rb.Gates {
		if g.Mode != rulebook.Enforce {
			continue
		}
		has := func(list []string, in ...string) bool {
			return slices.ContainsFunc(list, func(x string) bool { return x != "" && slices.Contains(in, x) })
		}
		who := (g.Who.Everyone || has(g.Who.Users, q.User) || has(g.Who.Groups, q.Groups...)) &&
			!has(g.Who.ExceptUsers, q.User) && !has(g.Who.ExceptGroups, q.Groups...)
		what := (g.What.Everything || has(g.What.Resources, q.Resource) || has(g.What.Tags, tags...)) &&
			!has(g.What.ExceptResources, q.Resource) && !has(g.What.ExceptTags, tags...)
		action := len(g.What.Actions) == 0 || slices.Contains(g.What.Actions, q.Action)
		if !who || !what || !action || g.When != nil && q.MFA != nil && !*q.MFA { // every when is auth.mfa here
			continue
		}
		matched = true
		denied = denied || int(q.Device.Level) < g.Number%5 // every need is a level here
	}
	if denied || !matched && !p.rb.Unmatched || q.Resource == "r0" && naiveGrant(q) == "" {
		return Deny
	}
	return Allow
}

// naiveGrant is the grant of the network of randomBook that a request is for, "" for none.
func naiveGrant(q *Request) string {
	switch {
	case q.Device.Level >= 3 && q.Proof == rulebook.ProofCertificate:
		return "work"
	case q.Device.Level >= 2:
		return "guests"
	case q.MFA != nil && *q.MFA:
		return "heal"
	}
	return ""
}

// randomBook writes a rulebook whose gates are all of the kind that naive knows.
func randomBook(r *rand.Rand) string {
	some := func(prefix string, n int) string {
		var list []string
		for i := range n {
			if r.IntN(3) == 0 {
				list = append(list, fmt.Sprintf("%s%d", prefix, i))
			}
		}
		return "[" + strings.Join(list, ", ") + "]"
	}
	pick := func(list ...string) string { return list[r.IntN(len(list))] }
	var b strings.Builder
	fmt.Fprintf(&b, "rulebook: r\nunmatched: %s\nbreak_glass: [u9]\nresources:\n", pick("deny", "allow"))
	for i := range 6 {
		fmt.Fprintf(&b, "  - {id: r%d, tags: [t%d, t%d]}\n", i, i%3, 3+i%2)
	}
	b.WriteString("networks: [{id: r0, grants: [{id: work, when: level >= sound and request.proof == certificate, " +
		"vlan: 40}, {id: guests, when: level >= limited}, {id: heal, when: auth.mfa, recover: true}]}]\n")
	b.WriteString("gates:\n")
	for i := range 1 + r.IntN(8) {
		who := pick("everyone: true", "users: [u1, u2]", "groups: [g0, g1]", "users: [u3], groups: [g2]")
		what := pick("everything: true", "resources: [r0, r3]", "tags: [t1]", "tags: [t3], resources: [r1]")
		fmt.Fprintf(&b, "  - {id: g%d, number: %d, mode: %s, who: {%s, except: {users: %s, groups: %s}}, what: {%s, actions: %s, except: {resources: %s, tags: %s}}, %s need: level >= %s}\n",
			i, i+1, pick("enforce", "enforce", "shadow", "draft"), who, some("u", 4), some("g", 4), what,
			some("a", 2), some("r", 6), some("t", 5), pick("", "when: auth.mfa,"),
			[]string{"barred", "unproven", "limited", "sound", "strong"}[(i+1)%5])
	}
	return b.String()
}

func TestTheIndexAgreesWithAskingEveryGate(t *testing.T) {
	r := rand.New(rand.NewPCG(5, 6))
	seen := map[Outcome]int{}
	for range 200 {
		text := randomBook(r)
		p := compile(t, text)
		for range 40 {
			q := &Request{Known: true, User: fmt.Sprintf("u%d", r.IntN(5)),
				Resource: fmt.Sprintf("r%d", r.IntN(8)), Action: fmt.Sprintf("a%d", r.IntN(3)),
				Device: Device{Known: true, Level: rulebook.Level(r.IntN(5))}}
			if r.IntN(20) == 0 {
				q.User = "u9"
			}
			for i := range 4 {
				if r.IntN(3) == 0 {
					q.Groups = append(q.Groups, fmt.Sprintf("g%d", i))
				}
			}
			if r.IntN(2) == 0 {
				q.MFA = []*bool{yes(), no()}[r.IntN(2)]
			}
			q.Proof = []string{"", rulebook.ProofAddress, rulebook.ProofCertificate}[r.IntN(3)]
			q.Claimed = r.IntN(4) == 0
			var tags []string
			for _, res := range p.rb.Resources {
				if res.ID == q.Resource {
					tags = res.Tags
				}
			}
			want, got := naive(p, q, tags), p.Decide(q, now)
			if got.Outcome != want {
				t.Fatalf("%+v is answered %s (%s); asking every gate gives %s under\n%s", q, got.Outcome,
					got.ReasonAdmin["en"], want, text)
			}
			grant := ""
			if got.Grant != nil {
				grant = got.Grant.Grant
			}
			if want := naiveGrant(q); q.Resource == "r0" && got.Outcome == Allow && grant != want {
				t.Fatalf("%+v is granted %q, and should be %q, under\n%s", q, grant, want, text)
			}
			if e := p.Evaluator().Evaluate(q, now); e.Outcome != want || (e.Grant == nil) != (grant == "") {
				t.Fatalf("%+v: evaluating gives %+v, deciding %s %q", q, e, want, grant)
			}
			if (q.Resource != "r0" || want != Allow) && grant != "" {
				t.Fatalf("%+v is granted %s", q, grant)
			}
			seen[want]++
		}
	}
	if seen[Allow] < 1000 || seen[Deny] < 1000 {
		t.Errorf("the outcomes are %v: the test tries too little", seen)
	}
}
