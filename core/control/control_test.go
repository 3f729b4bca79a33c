package control

import (
	"errors"
	"fmt"
	"io"
	"strings"
	"testing"
)

const published = `{"catalog": {
  "uuid": "0b0d6d5e-1c2f-4f4a-9f60-3f6f3f0f7a11",
  "metadata": {"title": "Harbour controls", "last-modified": "2026-01-01T00:00:00Z", "version": "3", "oscal-version": "1.1.2"},
  "params": [{"id": "p0", "label": "loops to {{ insert: param, p0 }}"}],
  "groups": [{"id": "hc", "controls": [
    {"id": "hc-1", "class": "x", "title": "Locks", "params": [{"id": "hc-1_p", "label": "minutes"}],
     "parts": [{"id": "hc-1_smt", "name": "statement", "prose": "Screens lock:", "parts": [
        {"id": "hc-1_smt.a", "name": "item", "prose": "after {{ insert: param, hc-1_p }};"},
        {"id": "hc-1_smt.b", "name": "item", "prose": "and {{insert: param, p0}}, {{ insert: param, none }}."}]},
       {"id": "hc-1_gdn", "name": "guidance", "prose": "Not this."}],
     "controls": [{"id": "hc-1.1", "title": "At once"}]}],
   "title": "Devices", "links": [{"href": "#hc-1", "rel": "related"}]}],
  "controls": [{"id": "HC-2", "title": "Charts"}],
  "back-matter": {"resources": [{"uuid": "x"}]}}}
`

func TestAPublishedCatalogueIsRead(t *testing.T) {
	c, err := ReadOSCAL(strings.NewReader(published))
	if err != nil {
		t.Fatal(err)
	}
	if c.Title != "Harbour controls" || c.Version != "3" || fmt.Sprint(c.IDs()) != "[hc-1 hc-1.1 HC-2]" {
		t.Fatalf("read %+v", c)
	}
	one := c.Control("hc-1")
	if one.Group != "Devices" || one.Statement != "hc-1_smt" || one.Text != "Screens lock:\nafter [minutes];\nand "+
		"[loops to …], [none]." {
		t.Errorf("hc-1 is %+v", one)
	}
	if c.Control("hc-1.1").Group != "Devices" || c.Control("HC-2").Group != "" || c.Control("hc-9") != nil {
		t.Error("groups are those of others")
	}
}

func TestWhatIsNoCatalogueIsRefusedWithItsPlace(t *testing.T) {
	deep := strings.Repeat(`{"groups":[`, 60) + strings.Repeat(`]}`, 60)
	many := strings.Repeat(`{"id":"a","title":"t"},`, 3)
	for name, c := range map[string]struct{ text, says string }{
		"nothing":            {"", "ends in the middle"},
		"no JSON":            {"catalog: x", "not JSON"},
		"cut":                {published[:len(published)/2], "ends in the middle"},
		"another document":   {`{"profile": {}}`, "no member catalog"},
		"no controls":        {`{"catalog": {"metadata": {"title": "x"}}}`, "no controls"},
		"twice":              {`{"catalog": {"controls": [` + strings.TrimSuffix(many, ",") + `]}}`, "a is there twice"},
		"no title":           {`{"catalog": {"controls": [{"id": "a"}]}}`, "/catalog/controls/0"},
		"no id":              {`{"catalog": {"controls": [{"title": "a"}]}}`, "no id"},
		"an odd id":          {`{"catalog": {"controls": [{"id": "a b", "title": "x"}]}}`, `"a b"`},
		"a number":           {`{"catalog": {"controls": [{"id": 7, "title": "x"}]}}`, "expected a text"},
		"a list too few":     {`{"catalog": {"controls": {"id": "x"}}}`, "expected a list"},
		"deep":               {`{"catalog": {"groups": [` + deep + `]}}`, "deep"},
		"the same name":      {`{"catalog": {"controls": [], "controls": []}}`, "not JSON"},
		"something behind":   {published + "{}", "behind the catalogue"},
		"groups in a circle": {`{"catalog": {"groups": [{"id": "a", "groups": "a"}]}}`, "expected a list"},
	} {
		_, err := ReadOSCAL(strings.NewReader(c.text))
		if err == nil || !strings.Contains(err.Error(), c.says) {
			t.Errorf("%s: %v, want %q", name, err, c.says)
		}
		var wrong *Error
		if err != nil && !errors.As(err, &wrong) {
			t.Errorf("%s: the error has no place: %v", name, err)
		}
	}
}

// endless is a catalogue of any size.
type endless struct {
	left  int
	piece string
	rest  string
}

func (e *endless) Read(p []byte) (int, error) {
	if e.rest == "" {
		if e.left--; e.left < 0 {
			return 0, io.EOF
		}
		e.rest = fmt.Sprintf(e.piece, e.left)
	}
	n := copy(p, e.rest)
	e.rest = e.rest[n:]
	return n, nil
}

func TestACatalogueIsBounded(t *testing.T) {
	large := io.MultiReader(strings.NewReader(`{"catalog": {"back-matter": [`),
		&endless{left: MaxFile, piece: `{"x%d": "` + strings.Repeat("y", 4000) + `"},`})
	if _, err := ReadOSCAL(large); err == nil || !strings.Contains(err.Error(), "larger than") {
		t.Errorf("a catalogue without an end: %v", err)
	}
	many := io.MultiReader(strings.NewReader(`{"catalog": {"controls": [`),
		&endless{left: MaxControls + 5, piece: `{"id": "c%d", "title": "t"},`})
	if _, err := ReadOSCAL(many); err == nil || !strings.Contains(err.Error(), "more than 10000 controls") {
		t.Errorf("too many controls: %v", err)
	}
	long := strings.Replace(published, "Screens lock:", strings.Repeat("å", MaxText), 1)
	if c, err := ReadOSCAL(strings.NewReader(long)); err != nil || len(c.Controls[0].Text) > MaxText+4 {
		t.Errorf("a long text: %v", err)
	}
}

func FuzzOSCAL(f *testing.F) {
	f.Add(published)
	f.Add(`{"catalog": {"groups": [{"controls": [{"id": "a", "title": "b", "controls": [{"id": "c", "title": "d"}]}]}]}}`)
	f.Add(`{"catalog": {"params": [{"id": "a", "label": "{{ insert: param, a }}"}], "controls": []}}`)
	f.Fuzz(func(t *testing.T, text string) {
		c, err := ReadOSCAL(strings.NewReader(text))
		if err != nil {
			return
		}
		seen := map[string]bool{}
		for _, x := range c.Controls {
			if !ID.MatchString(x.ID) || x.Title == "" || seen[x.ID] || len(x.Text) > MaxText+4 || len(x.Title) > MaxTitle+4 {
				t.Fatalf("read %+v", x)
			}
			seen[x.ID] = true
		}
	})
}
