package directory

import (
	"slices"
	"strings"
	"testing"
)

func TestPeopleAreReadAndBadLinesTold(t *testing.T) {
	cases := []struct {
		name, text string
		people     []string
		refused    map[int]string
	}{
		{"csv", "id,name,groups\nann,Ann A,crew; bridge ;crew\nbo,,\n", []string{"ann:crew+bridge", "bo:"}, nil},
		{"csv in another order with a mark", "\ufeffname,id\nAnn,ann\n", []string{"ann:"}, nil},
		{"csv with bad lines", "id,name,groups\n,Nobody,crew\nann,Ann,crew\nann,Twice,crew\n\"x,y\n",
			[]string{"ann:crew"}, map[int]string{2: "needs an id", 4: "stands in line 3 already",
				5: "not a CSV row"}},
		{"csv that is not UTF-8", "id,name,groups\na\xff,,\nbo,\xe5sa,\ncy,,cr\xffw\ndi,\u00c5sa,crew\n",
			[]string{"di:crew"},
			map[int]string{2: "is not UTF-8", 3: "is not UTF-8", 4: "is not UTF-8"}},
		{"yaml", "- {id: ann, name: Ann, groups: [crew]}\n- {name: none}\n", []string{"ann:crew"},
			map[int]string{2: "needs an id"}},
		{"json", `[{"id":"ann","groups":["crew"]}]`, []string{"ann:crew"}, nil},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			people, refused, err := Read(c.text)
			if err != nil {
				t.Fatal(err)
			}
			var got []string
			for _, p := range people {
				got = append(got, p.ID+":"+strings.Join(p.Groups, "+"))
			}
			if !slices.Equal(got, c.people) || len(refused) != len(c.refused) {
				t.Errorf("read %v and refused %v, want %v and %v", got, refused, c.people, c.refused)
			}
			for _, r := range refused {
				if !strings.Contains(r.Message, c.refused[r.Line]) || c.refused[r.Line] == "" {
					t.Errorf("line %d says %q, want %q", r.Line, r.Message, c.refused[r.Line])
				}
			}
		})
	}
	for text, want := range map[string]string{"id,nme\n": `column 2 is "nme"`, "id,id\n": "each once",
		"- {id: a, colour: b}": "not a list of people", "id: a": "not a list of people"} {
		if _, _, err := Read(text); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q gives %v, want %q", text, err, want)
		}
	}
}

func FuzzPeople(f *testing.F) {
	f.Add("id,name,groups\nmaren,Maren,crew;deck\n")
	f.Add("- {id: maren, name: Maren, groups: [crew]}\n")
	f.Add("!x {}")
	f.Add("id\n\"open")
	f.Add("- &a {id: x}\n- *a")
	f.Fuzz(func(t *testing.T, text string) {
		people, _, err := Read(text)
		if err != nil && len(people) > 0 {
			t.Errorf("%q fails with %v, and brings %d people", text, err, len(people))
		}
		seen := map[string]bool{}
		for _, p := range people {
			if p.ID == "" || seen[p.ID] {
				t.Errorf("%q brings %q without an id or twice", text, p.ID)
			}
			seen[p.ID] = true
		}
	})
}

func FuzzRoster(f *testing.F) {
	f.Add("serial,hardware_id\nGF-1,hw-1\n")
	f.Add("serial\n\"open")
	f.Fuzz(func(t *testing.T, text string) {
		list, _, err := ReadRoster(strings.NewReader(text))
		if err != nil && len(list) > 0 {
			t.Errorf("%q fails with %v, and brings %d rows", text, err, len(list))
		}
	})
}

// Text that would take the YAML reader down with it is refused first.
func TestDeepTextIsRefused(t *testing.T) {
	for _, text := range []string{strings.Repeat("[", 1_000_000), strings.Repeat("- ", 1_000_000),
		strings.Repeat("{a: ", 200_000), "!x {}"} {
		if people, _, err := ReadYAML(strings.NewReader(text)); err == nil || len(people) > 0 {
			t.Errorf("%.20q is read", text)
		}
	}
}
