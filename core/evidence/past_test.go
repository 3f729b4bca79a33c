package evidence

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"testing"

	"ironledger.example/core/value"
)

// Whatever arrived, each earlier state of a record comes back from the present
// one and the steps that led to it.
func TestRecordsGoBackStepByStep(t *testing.T) {
	d := NewDictionary(Attribute{Name: "custom.chart_pack", Type: value.Of(value.Version)})
	r := rand.New(rand.NewPCG(1, 2))
	pick := func(of ...string) string { return of[r.IntN(len(of))] }
	var records []*Record
	var undos []string
	var rec *Record
	for i := range 400 {
		values := []string{`"platform":"windows"`}
		for _, v := range []string{`"os.version":"` + pick("10.1", "10.2") + `"`,
			`"storage.encrypted":` + pick("true", "false", `{"unavailable":"no driver"}`),
			`"threat.score":` + pick("1", "2"),
			`"volumes":[{"name":"c","system":true,"encrypted":` + pick("true", "false") + `}]`,
			`"custom.chart_pack":"` + pick("1", "2") + `"`} {
			if r.IntN(10) < 8 {
				values = append(values, v)
			}
		}
		at := micros("2026-11-20T07:00:00Z") + int64(i-r.IntN(3))*1_000_000 // some arrive late
		if i%5 == 0 && len(records) > 0 {
			values = values[:1]
		}
		rep := report(t, d, fmt.Sprintf(`{"source":"%s","observed_at":"%s","identity":{"id":"d-1"},"evidence":{%s}}`,
			pick("mdm", "agent"), value.FormatTime(at), strings.Join(values, ",")))
		for i := range rep.Readings {
			rep.Readings[i].Proved = at%3_000_000 == 0 && rep.Readings[i].Value.Known()
		}
		next := rec.With(rep)
		if rec != nil {
			undos = append(undos, string(next.AppendUndo(nil, rec)))
		}
		records, rec = append(records, next), next
	}
	kept := []byte{'{'}
	for i, source := range []string{"agent", "mdm"} {
		if i > 0 {
			kept = append(kept, ',')
		}
		kept = rec.AppendSource(fmt.Appendf(kept, "%q:", source), source)
	}
	past, err := ReadPast(append(kept, '}'))
	if err != nil {
		t.Fatal(err)
	}
	same := func(a, b Reading) bool {
		return a.Name == b.Name && a.Source == b.Source && a.At == b.At &&
			a.Proved == b.Proved && a.Unavailable == b.Unavailable && a.Value.Kind() == b.Value.Kind() &&
			a.Value.Equal(b.Value)
	}
	for i := len(records) - 1; ; i-- {
		got, err := d.UnmarshalRecord(past.Kept())
		if err != nil || !slices.EqualFunc(readings(got), readings(records[i]), same) {
			t.Fatalf("state %d is\n%v, was\n%v (%v)", i, readings(got), readings(records[i]), err)
		}
		if i == 0 {
			break
		}
		if undo := undos[i-1]; undo != "" {
			if err := past.Undo([]byte(undo)); err != nil {
				t.Fatalf("%s: %v", undo, err)
			}
		}
	}
	if n := len(rec.AppendUndo(nil, rec)); n != 0 {
		t.Errorf("nothing changed, and that takes %d bytes", n)
	}
	routine := report(t, d, `{"source":"mdm","observed_at":"2026-11-20T07:30:00Z","identity":{"id":"d-1"},"evidence":{"platform":"windows","os.version":"10.1"}}`)
	later := report(t, d, `{"source":"mdm","observed_at":"2026-11-20T07:40:00Z","identity":{"id":"d-1"},"evidence":{"platform":"windows","os.version":"10.1"}}`)
	first := (*Record)(nil).With(routine)
	if got := string(first.With(later).AppendUndo(nil, first)); got != fmt.Sprintf(`{"again":{"mdm":%d}}`,
		routine.At) {
		t.Errorf("a routine report leads back by %s", got)
	}
	for _, bad := range []string{`{`, `{"again":{"nobody":1}}`, `{"readings":{"mdm":[]}}`} {
		if err := past.Undo([]byte(bad)); err == nil {
			t.Errorf("%s leads back", bad)
		}
	}
}
