package directory

import (
	"fmt"
	"strings"
	"testing"
)

func TestARosterIsReadAndBadLinesTold(t *testing.T) {
	cases := []struct{ name, text, want, refused string }{
		{"all columns", "serial,hardware_id,note\nA-1,H-1,new\n", "[{A-1 H-1 new}]", ""},
		{"in any order, with one left out", "note,serial\nours, B-2 \n", "[{B-2  ours}]", ""},
		{"with a byte order mark", "\ufeffserial\nA\n", "[{A  }]", ""},
		{"hardware ids alone", "hardware_id\nH-7\n", "[{ H-7 }]", ""},
		{"quoted cells", "serial,note\nA,\"one, two\"\n", "[{A  one, two}]", ""},
		{"a line with neither", "serial,note\nA,x\n,lost\nB,y\n", "[{A  x} {B  y}]", "3: the line has neither"},
		{"a line with too much", "serial\nA,B\n", "[]", "2: the line has 2 cells under 1 columns"},
		{"a short line", "serial,note\nA\n", "[{A  }]", ""},
		{"a cell that is no text", "serial\nm\xff\n", "[]", "2: a cell is not UTF-8"},
		{"a cell without end", "serial\n" + strings.Repeat("x", 300) + "\n", "[]", "2: a cell is too long"},
		{"the header alone", "serial\n", "[]", ""},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			got, refused, err := ReadRoster(strings.NewReader(c.text))
			if err != nil || fmt.Sprint(got) != c.want {
				t.Errorf("it reads %v (%v), want %s", got, err, c.want)
			}
			said := ""
			for _, r := range refused {
				said += fmt.Sprintf("%d: %s", r.Line, r.Message)
			}
			if !strings.HasPrefix(said, c.refused) || c.refused == "" && said != "" {
				t.Errorf("it refuses %q, want %q", said, c.refused)
			}
		})
	}
	for text, want := range map[string]string{"": "has no header",
		"serial,colour\n": `"colour" is not a column of a roster`, "serial\n\"A\n": "not readable as CSV"} {
		if _, _, err := ReadRoster(strings.NewReader(text)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%q gives %v, want %q", text, err, want)
		}
	}
	if h := (&Hardware{HardwareID: "HW-1"}); h.ID() != "hw-1" {
		t.Errorf("hardware without a serial is called %s", h.ID())
	}
}
