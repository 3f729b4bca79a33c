package evidence

import (
	"bytes"
	"encoding/json"
	"slices"
	"strconv"
	"strings"
	"testing"

	"ironledger.example/core/condition"
	"ironledger.example/core/value"
)

const hour = int64(3600 * 1_000_000)

var now = micros("2026-11-20T08:00:00Z")

func micros(s string) int64 {
	v, err := value.ParseTime(s)
	if err != nil {
		panic(err)
	}
	return v.Num()
}

func report(t *testing.T, d *Dictionary, raw string) *Report {
	t.Helper()
	r, err := d.ParseReport([]byte(raw), now)
	if err != nil {
		t.Fatalf("%s: %v", raw, err)
	}
	return r
}

func TestReportKeepsWhatItCan(t *testing.T) {
	d := NewDictionary(Attribute{Name: "custom.chart_pack", Type: value.Of(value.Version)})
	r := report(t, d, `{"source":"mdm","observed_at":"2026-11-20T07:00:00Z","identity":{"id":"d-1","serial":"GF-1"},"evidence":{
		"platform":"windows","os.version":"10.0.22631.4460 (KB504)","storage.encrypted":null,"tpm.present":{"unavailable":"driver not loaded"},
		"os.vresion":"1","passcode.length":"six","threat.score":140,"on_roster":true,"screen_lock.after":"10m","form":"lorry",
		"volumes":[{"name":"c","system":true,"encrypted":false}],"custom.chart_pack":"2026.11"}}`)
	if len(r.Readings) != 7 { // platform, os.version, tpm.present, screen_lock.after, volumes, custom.chart_pack, and the serial
		t.Errorf("%d readings are kept: %v", len(r.Readings), r.Readings)
	}
	want := map[string]string{"os.vresion": "did you mean os.version?",
		"passcode.length": `the text "six" stands where a whole number`, "threat.score": "between 0 and 100",
		"on_roster": "only the service itself", "form": `"lorry" is not one of laptop`}
	if len(r.Refused) != len(want) {
		t.Errorf("refused are %v", r.Refused)
	}
	for _, x := range r.Refused {
		if !strings.Contains(x.Message, want[x.Attribute]) || want[x.Attribute] == "" {
			t.Errorf("%s is refused with %q, want %q", x.Attribute, x.Message, want[x.Attribute])
		}
	}
}

func TestReportsThatAreRefusedWhole(t *testing.T) {
	d := NewDictionary()
	for raw, want := range map[string]string{
		`{`:                                  "not valid JSON at byte",
		`[]`:                                 "a list stands where a report, a JSON object, was expected",
		`null`:                               "null stands where a report",
		`{"identity":{"id":"a"},"colour":1}`: "a report has no member colour",
		`{"identity":{},"evidence":{"platform":"ios"}}`:                "does not say which device",
		`{"identity":{"id":"a"},"observed_at":"yesterday"}`:            "not an RFC 3339 time",
		`{"identity":{"id":"a"},"observed_at":"2026-11-20T08:06:00Z"}`: "in the future",
		`{"identity":{"serial":"a"},"evidence":{"serial":"b"}}`:        "the serial of the identity and of the evidence differ",
		`{"identity":{"id":"a"}} {"identity":{"id":"b"}}`:              "not valid JSON",
		`{"identity":{"id":"` + strings.Repeat("x", 300) + `"}}`:       "longer than 200",
		`{"identity":{"id":7}}`:                                        "identity.id: 7 stands where a text was expected",
	} {
		if _, err := d.ParseReport([]byte(raw), now); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%.60s: the error is %v, want %q", raw, err, want)
		}
	}
	if _, err := d.ParseReport([]byte(`{"identity":{"id":"a"},"observed_at":"2026-11-20T08:04:59Z"}`),
		now); err != nil {
		t.Errorf("a clock five minutes ahead is refused: %v", err)
	}
}

// A caller names the source of a whole stream in the address, where any bytes may stand.
func TestASourceIsText(t *testing.T) {
	for it := range NewDictionary().Read(strings.NewReader(`{"identity":{"id":"a"}}`), NDJSON, "m\xff", now) {
		if it.Err == nil || !strings.Contains(it.Err.Error(), "source is not UTF-8") {
			t.Errorf("a source that is no text: %v", it.Err)
		}
	}
}

func TestStreamsGoOnAfterABadLine(t *testing.T) {
	d := NewDictionary()
	cases := []struct {
		name   string
		format Format
		text   string
		good   int
		bad    map[int]string
	}{
		{"ndjson", NDJSON, "{\"identity\":{\"id\":\"a\"}}\n\nnonsense\n{\"identity\":{\"id\":\"b\"}}", 2,
			map[int]string{3: "not valid JSON"}},
		{"too long a line", NDJSON, strings.Repeat("x", MaxReport+5) + "\n{\"identity\":{\"id\":\"b\"}}\n", 1,
			map[int]string{1: "larger than"}},
		{"a list", JSON, `[{"identity":{"id":"a"}},{"identity":{}}]`, 1,
			map[int]string{2: "does not say which device"}},
		{"one object over lines", JSON, "{\n\"identity\":{\"id\":\"a\"}\n}", 1, nil},
		{"csv", CSV, "id,os.version,passcode.set,threat.score,certs\na,14.1,true,7,\nb,14.1\nc,\"x\",,unavailable: asleep,\n", 2, map[int]string{3: "not a CSV row"}},
		{"csv that is not UTF-8", CSV, "id,source,owner\na\xff,m,x\nb,m\xff,x\nc,m,\xe5sa\nd,m,\u00e5sa\n", 1,
			map[int]string{2: "id is not UTF-8", 3: "source is not UTF-8", 4: "owner is not UTF-8"}},
		{"csv with a column twice", CSV, "id,id\na,b\n", 0, map[int]string{0: "stands twice"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			good, bad := 0, map[int]string{}
			for it := range d.Read(strings.NewReader(c.text), c.format, "", now) {
				if it.Err != nil {
					bad[it.Line] = it.Err.Error()
				} else {
					good++
				}
			}
			if good != c.good || len(bad) != len(c.bad) {
				t.Errorf("%d good reports, want %d; bad %v, want %v", good, c.good, bad, c.bad)
			}
			for line, want := range c.bad {
				if !strings.Contains(bad[line], want) {
					t.Errorf("line %d says %q, want %q", line, bad[line], want)
				}
			}
		})
	}
	for text, want := range map[string]Format{`{"identity":{}}` + "\n{": NDJSON, "{\n}": JSON, "[": JSON,
		"id,name": CSV} {
		if got := Detect("-", []byte(text)); got != want {
			t.Errorf("%q is taken for %s, want %s", text, got, want)
		}
	}
}

// record makes a record of "source hours-ago attribute value" lines.
func record(t *testing.T, d *Dictionary, lines ...string) *Record {
	t.Helper()
	var rec *Record
	for _, l := range lines {
		f := strings.SplitN(l, " ", 4)
		at := value.FormatTime(now - int64(f[1][0]-'0')*hour)
		rec = rec.With(report(t, d, `{"source":"`+f[0]+`","observed_at":"`+at+
			`","identity":{"id":"d"},"evidence":{"`+f[2]+`":`+f[3]+`}}`))
	}
	return rec
}

func TestWhichReadingCounts(t *testing.T) {
	d := NewDictionary()
	policy := Policy{Limits: []Limit{{"", 24 * hour}, {"os", 3 * hour}, {"os.build", 9 * hour}},
		Sources: []SourceRule{{ID: "agent", Rank: 1, Provides: []string{"*"}},
			{ID: "mdm", Rank: 5, Provides: []string{"os", "platform"}},
			{ID: "sensor", Rank: 3, Provides: []string{"threat", "integrity"}},
			{ID: "twin", Rank: 1, Provides: []string{"*"}}},
		Bands: []Band{{1, 1}, {40, 2}, {70, 3}, {90, 4}}}
	cases := []struct {
		name, attribute, value, source, why string
		lines                               []string
	}{
		{"a higher rank wins over a newer one", "os.version", "14.1", "mdm", "",
			[]string{`mdm 2 os.version "14.1"`, `agent 1 os.version "14.2"`}},
		{"a stale one of higher rank yields", "os.version", "14.2", "agent", "",
			[]string{`mdm 4 os.version "14.1"`, `agent 1 os.version "14.2"`}},
		{"of one rank the newest wins", "os.version", "14.3", "twin", "",
			[]string{`agent 2 os.version "14.2"`, `twin 1 os.version "14.3"`}},
		{"of one rank and time the first id wins", "os.version", "14.2", "agent", "",
			[]string{`twin 1 os.version "14.3"`, `agent 1 os.version "14.2"`}},
		{"the worst threat wins", "threat.score", "80", "agent", "",
			[]string{`agent 2 threat.score 80`, `sensor 1 threat.score 5`}},
		{"tampered wins", "integrity.tampered", "true", "agent", "",
			[]string{`agent 2 integrity.tampered true`, `sensor 1 integrity.tampered false`}},
		{"a level is derived from the score of each source", "threat.level", "high", "agent", "",
			[]string{`agent 2 threat.score 80`, `sensor 1 threat.level "low"`}},
		{"a given level counts instead of its own score", "threat.level", "low", "agent", "",
			[]string{`agent 2 threat.score 80`, `agent 2 threat.level "low"`}},
		{"an older report does not overwrite", "model", "new", "agent", "",
			[]string{`agent 1 model "new"`, `agent 5 model "old"`}},
		{"a source outside its prefixes does not count", "model", "", "", "never reported",
			[]string{`mdm 1 model "m"`}},
		{"nobody said anything", "model", "", "", "never reported", nil},
		{"all is stale", "os.version", "", "agent", "stale: observed 4h ago, fresh for 3h",
			[]string{`agent 4 os.version "14.2"`}},
		{"the longest prefix decides freshness", "os.build", "b", "agent", "", []string{`agent 8 os.build "b"`}},
		{"at its limit it is still fresh", "os.version", "14.2", "agent", "",
			[]string{`agent 3 os.version "14.2"`}},
		{"what a device is does not go stale", "vendor", "v", "agent", "", []string{`agent 9 vendor "v"`}},
		{"unavailable says why", "secure_boot", "", "agent", "unavailable: no firmware",
			[]string{`agent 1 secure_boot {"unavailable":"no firmware"}`}},
		{"unavailable yields to a value of another source", "secure_boot", "true", "twin", "",
			[]string{`agent 1 secure_boot {"unavailable":"x"}`, `twin 2 secure_boot true`}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			r := NewResolver(d, policy)
			v := r.Resolve(record(t, d, c.lines...), Facts{}, now)
			slot := d.Slot(c.attribute)
			got := v.Get(slot, now)
			if c.value == "" && got.Known() || c.value != "" && got.String() != c.value {
				t.Errorf("the value is %v, want %q", got, c.value)
			}
			if o := v.Origin(slot, now); o.Why != c.why || o.Source != c.source {
				t.Errorf("it comes from %q (%q), want %q (%q)", o.Source, o.Why, c.source, c.why)
			}
		})
	}
	v := NewResolver(d, policy).Resolve(record(t, d, `mdm 2 os.version "14.1"`, `agent 1 os.version "14.2"`),
		Facts{}, now)
	if want := now + hour; v.Valid != want {
		t.Errorf("the view holds until %s, want %s: then the other source takes over",
			value.FormatTime(v.Valid), value.FormatTime(want))
	}
}

func TestServiceFactsAreNeverUnknown(t *testing.T) {
	d := NewDictionary()
	r := NewResolver(d, Policy{})
	v := r.Resolve(record(t, d, `agent 1 owner "ylva"`),
		Facts{OnRoster: true, Groups: func(p string) *value.Value { return ListOf([]string{p + "'s crew"}) }}, now)
	for name, want := range map[string]string{"on_roster": "true", "vouched": "false",
		"owner.groups": "ylva's crew"} {
		if got := v.Get(d.Slot(name), now); got.String() != want {
			t.Errorf("%s is %v, want %s", name, got, want)
		}
	}
	if v := r.Resolve(nil, Facts{}, now); v.Get(d.Slot("vouched"), now).String() != "false" {
		t.Error("vouched is unknown without evidence")
	}
}

// house is what joining asks of, for tests.
type house struct {
	keys   map[Key]string
	spoken map[string]Spoken // by device and source
}

func (h house) Find(k Key) (string, bool) { id, ok := h.keys[k]; return id, ok }

func (h house) Spoken(device, source string) (Spoken, bool) {
	s, ok := h.spoken[device+" "+source]
	return s, ok
}

func TestJoining(t *testing.T) {
	d := NewDictionary()
	hourAgo, longAgo := now-3600*1_000_000, now-25*3600*1_000_000
	known := house{
		map[Key]string{{ByExternal, "mdm:77"}: "d1", {ByID, "d1"}: "d1", {BySerial, "gf-1"}: "d1",
			{ByHardware, "ab"}: "d2", {ByID, "d2"}: "d2", {BySerial, "default string"}: "d2"},
		map[string]Spoken{"d1 mdm": {Source: "mdm", At: hourAgo, External: "77"},
			"d1 old": {Source: "old", At: longAgo, External: "5", Hardware: "cd"},
			"d1 ids": {Source: "ids", At: hourAgo, ID: "d1"}},
	}
	open := NewResolver(d, Policy{})
	strict := NewResolver(d, Policy{Sources: []SourceRule{{ID: "mdm", Provides: []string{"os"},
		Identifies: true}, {ID: "sensor", Provides: []string{"threat"}}}, IgnoreKeys: []string{"GF-0000"}})
	for _, c := range []struct {
		by                 *Resolver
		raw, id            string
		known, wait, error bool
		gained, lost       string
	}{
		{open, `{"source":"mdm","external_id":"77","identity":{}}`, "d1", true, false, false, "", ""},
		{open, `{"source":"other","external_id":"77","identity":{"serial":" GF-1 "}}`, "d1", true, false,
			false, "external_id other:77", ""},
		{open, `{"identity":{"hardware_id":"AB"}}`, "d2", true, false, false, "", ""},
		{open, `{"identity":{"id":"d1","hardware_id":"ab"}}`, "", false, false, true, "", ""},
		{open, `{"identity":{"id":"d9","serial":"new"}}`, "d9", false, false, false, "id d9, serial new", ""},
		{open, `{"identity":{"serial":"New-7"}}`, "New-7", false, false, false, "serial new-7", ""},
		{open, `{"source":"mdm","external_id":"78","identity":{}}`, "mdm:78", false, false, false,
			"external_id mdm:78", ""},
		{open, `{"source":"mdm","external_id":"78","identity":{"serial":"gf-1"}}`, "", false, false, true, "", ""},
		{open, `{"source":"old","external_id":"6","identity":{"serial":"gf-1"}}`, "d1", true, false, false,
			"external_id old:6", "external_id old:5"},
		{open, `{"source":"old","identity":{"serial":"gf-1","hardware_id":"ef"}}`, "d1", true, false, false,
			"hardware_id ef", "hardware_id cd"},
		{open, `{"source":"ids","identity":{"id":"d7","serial":"gf-1"}}`, "", false, false, true, "", ""},
		{open, `{"identity":{"id":"d8","serial":"Default string"}}`, "d8", false, false, false, "id d8", ""},
		{open, `{"identity":{"serial":"0000000"}}`, "", false, false, true, "", ""},
		{open, `{"identity":{"hardware_id":"FFFF-FFFF"}}`, "", false, false, true, "", ""},
		{strict, `{"source":"mdm","identity":{"serial":"gf-0000"}}`, "", false, false, true, "", ""},
		{strict, `{"source":"sensor","external_id":"1","identity":{"serial":"gf-1","hardware_id":"99x"}}`,
			"d1", true, false, false, "", ""},
		{strict, `{"source":"sensor","identity":{"serial":"gf-2"}}`, "", false, true, false, "", ""},
		{strict, `{"source":"stranger","identity":{"serial":"gf-2"}}`, "", false, true, false, "", ""},
		{strict, `{"source":"mdm","identity":{"serial":"gf-2"}}`, "gf-2", false, false, false, "serial gf-2", ""},
	} {
		j, err := c.by.Join(report(t, d, c.raw), known)
		text := func(keys []Key) string {
			var parts []string
			for _, k := range keys {
				parts = append(parts, string(k.Kind)+" "+k.Text)
			}
			return strings.Join(parts, ", ")
		}
		if j.Device != c.id || j.Known != c.known || j.Wait != c.wait || (err != nil) != c.error ||
			text(j.Gained) != c.gained || text(j.Lost) != c.lost {
			t.Errorf("%s joins %+v (%v)", c.raw, j, err)
		}
	}
}

func TestKeptEvidenceComesBack(t *testing.T) {
	d := NewDictionary(Attribute{Name: "custom.x", Type: value.Of(value.Int)})
	rec := record(t, d, `agent 1 os.version "14.2 (b)"`, `agent 2 volumes [{"name":"c","encrypted":true}]`,
		`agent 1 tpm.present {"unavailable":"no \"chip\""}`, `agent 1 screen_lock.after "90s"`,
		`agent 1 os.patched_at "2026-11-01"`, `agent 1 custom.x 5`)
	kept := rec.MarshalSource("agent")
	if !json.Valid(kept) {
		t.Fatalf("kept is not JSON: %s", kept)
	}
	rep, err := d.UnmarshalSource("agent", kept)
	if err != nil {
		t.Fatal(err)
	}
	var again *Record
	if again = again.With(rep); !bytes.Equal(again.MarshalSource("agent"), kept) {
		t.Errorf("kept %s\nagain %s", kept, again.MarshalSource("agent"))
	}
	if rep, err := NewDictionary().UnmarshalSource("agent", kept); err != nil || len(rep.Readings) != 5 {
		t.Errorf("without the custom attribute %d readings come back (%v), want 5", len(rep.Readings), err)
	}
}

func FuzzReport(f *testing.F) {
	f.Add([]byte(`{"source":"mdm","external_id":"7","observed_at":"2026-11-20T07:00:00Z","identity":{"id":"d","serial":"s"},"evidence":{"os.version":"1.2","certs":[{"pem":"x"}],"threats":[{"severity":"low"}]}}`))
	f.Add([]byte(`{"identity":{"id":"a"},"evidence":{"volumes":[{}],"tpm.present":{"unavailable":""},"screen_lock.after":"9w"}}`))
	d := NewDictionary()
	r := NewResolver(d, Policy{Bands: []Band{{1, 1}}})
	f.Add([]byte(`{"evidence":{"storage.encrypted":true,"custom.x":1},"checks":{"dock":{"gave":["custom.x"]},"b":{"failed":"late"}}}`))
	f.Fuzz(func(t *testing.T, raw []byte) {
		if own, err := d.ParseOwn(raw, now); err == nil {
			var rec *Record
			rec = rec.With(own)
			back, err := d.UnmarshalSource(own.Source, rec.MarshalSource(own.Source))
			same := func(a, b Reading) bool {
				return a.Name == b.Name && a.Proved == b.Proved && a.Proved == a.Value.Known()
			}
			if err != nil || own.Source != Agent || !slices.EqualFunc(readings(rec), back.Readings, same) {
				t.Fatalf("%q of a device's own comes back otherwise: %v", raw, err)
			}
		}
		rep, err := d.ParseReport(raw, now)
		if err != nil {
			return
		}
		if slices.ContainsFunc(rep.Readings, func(x Reading) bool { return x.Proved }) {
			t.Fatalf("%q is proved by nobody", raw)
		}
		var rec *Record
		rec = rec.With(rep)
		kept := rec.MarshalSource(rep.Source)
		back, err := d.UnmarshalSource(rep.Source, kept)
		if err != nil || len(back.Readings) != rec.Len() {
			t.Fatalf("%q is kept as %q, which comes back as %d of %d readings (%v)", raw, kept,
				len(back.Readings), rec.Len(), err)
		}
		r.Resolve(rec, Facts{}, now)
		_ = condition.Always
	})
}

func TestTheWorstOfSeveralSources(t *testing.T) {
	d := NewDictionary()
	cases := []struct {
		name, attribute, value string
		combine                []Combine
		lines                  []string
	}{
		{"by rank, one says so", "storage.encrypted", "true", nil,
			[]string{"agent 1 storage.encrypted false", "mdm 3 storage.encrypted true"}},
		{"under worst the one that says no", "storage.encrypted", "false", []Combine{{"storage", true}},
			[]string{"agent 1 storage.encrypted false", "mdm 3 storage.encrypted true"}},
		{"the oldest version is worst", "os.version", "13", []Combine{{"os.version", true}},
			[]string{"agent 1 os.version \"14\"", "mdm 3 os.version \"13\""}},
		{"the longest wait is worst", "screen_lock.after", "30m", []Combine{{"screen_lock", true}},
			[]string{"agent 1 screen_lock.after \"30m\"", "mdm 3 screen_lock.after \"5m\""}},
		{"a threat is worst as it is", "threat.score", "70", nil,
			[]string{"agent 1 threat.score 70", "mdm 3 threat.score 5"}},
		{"unless rank is to count", "threat.score", "5", []Combine{{"threat", false}},
			[]string{"agent 1 threat.score 70", "mdm 3 threat.score 5"}},
		{"the longest prefix decides", "threat.score", "70",
			[]Combine{{"threat", false}, {"threat.score", true}},
			[]string{"agent 1 threat.score 70", "mdm 3 threat.score 5"}},
		{"tampering is told by anybody", "integrity.tampered", "true", nil,
			[]string{"agent 1 integrity.tampered true", "mdm 3 integrity.tampered false"}},
	}
	for _, c := range cases {
		t.Run(c.name, func(t *testing.T) {
			var lines []string
			var sources []SourceRule
			for _, l := range c.lines {
				f := strings.SplitN(l, " ", 4)
				sources = append(sources, SourceRule{ID: f[0], Rank: int(f[1][0] - '0'), Provides: []string{"*"}})
				lines = append(lines, `{"source":"`+f[0]+
					`","observed_at":"2026-11-20T07:00:00Z","identity":{"id":"d"},"evidence":{"`+f[2]+`":`+
					f[3]+`}}`)
			}
			var rec *Record
			for _, l := range lines {
				rec = rec.With(report(t, d, l))
			}
			v := NewResolver(d, Policy{Sources: sources, Combine: c.combine}).Resolve(rec, Facts{}, now)
			if got := v.Get(d.Slot(c.attribute), now).String(); got != c.value {
				t.Errorf("%s is %s, want %s", c.attribute, got, c.value)
			}
		})
	}
}

func TestAVouchEndsAtItsMoment(t *testing.T) {
	d := NewDictionary()
	r := NewResolver(d, Policy{})
	var rec *Record
	rec = rec.With(report(t, d, `{"identity":{"id":"d"},"observed_at":"2026-11-20T07:00:00Z","evidence":{"managed":true}}`))
	facts := Facts{ID: "d", Vouched: now + 1000}
	v := r.Resolve(rec, facts, now)
	if !v.Get(d.Slot("vouched"), now+999).IsTrue() || v.Valid != now+999 {
		t.Errorf("it is not vouched for up to its end, or the view holds until %d", v.Valid-now)
	}
	if later := r.Resolve(rec, facts, now+1000); later.Get(d.Slot("vouched"), now+1000).String() != "false" {
		t.Error("at its end the vouch still counts")
	}
}

func TestDamagedEvidenceIsTold(t *testing.T) {
	d := NewDictionary()
	for kept, want := range map[string]string{
		``: "no JSON object", `[]`: "no JSON object", `{"x":{}}`: "is no moment", `{"17":7}`: "is no moment",
		`{"1700000000000000":{"managed":true`: "breaks off", `{"1700000000000000":{"managed":true}`: "breaks off",
		`{"99999999999999999999":{}}`: "is no moment",
	} {
		if rep, err := d.UnmarshalSource("agent", []byte(kept)); err == nil ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%s is read as %+v (%v), want %q", kept, rep, err, want)
		}
	}
	rep, err := d.UnmarshalSource("agent",
		[]byte(`{"1700000000000000":{"managed":true,"gone":1,"os.version":7,"form":"laptop"},"1800000000000000":{"managed":false,"model":{"unavailable":"x"}},"1600000000000000":{"managed":true}}`))
	if err != nil || len(rep.Readings) != 3 {
		t.Fatalf("it is read as %+v (%v)", rep, err)
	}
	for i, want := range []string{"form laptop 1700000000000000", "managed false 1800000000000000",
		"model unknown 1800000000000000"} {
		r := rep.Readings[i]
		if got := r.Name + " " + r.Value.String() + " " + strconv.FormatInt(r.At, 10); got != want {
			t.Errorf("reading %d is %s, want %s", i, got, want)
		}
	}
}

func TestARecordOfSeveralSourcesComesBack(t *testing.T) {
	d := NewDictionary()
	rec := record(t, d, "agent 1 os.version \"14\"", "mdm 1 os.version \"15\"", "mdm 2 managed true")
	kept := []byte(`{"agent":`)
	kept = append(rec.AppendSource(append(rec.AppendSource(kept, "agent"), `,"mdm":`...), "mdm"), '}')
	back, err := d.UnmarshalRecord(kept)
	if err != nil || !slices.EqualFunc(readings(back), readings(rec), func(a, b Reading) bool {
		return a.Name == b.Name && a.Source == b.Source && a.At == b.At && a.Value.Equal(b.Value)
	}) {
		t.Errorf("%s comes back as %+v (%v)", kept, back, err)
	}
	for _, bad := range []string{"", "[]", `{"agent":7}`, string(kept[:len(kept)-1]),
		string(kept[:len(kept)/2]), `{"agent":{"x":{}}}`} {
		if rec, err := d.UnmarshalRecord([]byte(bad)); err == nil {
			t.Errorf("%q is read as %+v", bad, rec)
		}
	}
	if rec, err := d.UnmarshalRecord([]byte("{}")); err != nil || rec.Len() != 0 {
		t.Errorf("nothing is read as %+v (%v)", rec, err)
	}
}

// FuzzRecord reads kept evidence that may be damaged: it is told, or what is
// whole is read, and nothing panics.
func FuzzRecord(f *testing.F) {
	f.Add([]byte(`{"agent":{"1700000000000000":{"managed":true,"os.version":"14","volumes":[{"name":"c"}]}},"mdm":{"1":{"model":{"unavailable":"x"}}}}`))
	f.Add([]byte(`{"a":{"1":{"managed":["00`))
	d := NewDictionary()
	f.Fuzz(func(t *testing.T, kept []byte) {
		rec, err := d.UnmarshalRecord(kept)
		if err != nil {
			return
		}
		for r := range rec.All() {
			if d.Slot(r.Name) < 0 || r.Value.Known() == (r.Unavailable != "") {
				t.Fatalf("%q is read as %+v", kept, r)
			}
		}
	})
}

// A view points at the readings. Setting one of its slots changes neither them
// nor another view.
func TestSettingASlotLeavesTheRecordAlone(t *testing.T) {
	d := NewDictionary()
	rec := record(t, d, `agent 1 model "Skerry 14"`)
	r := NewResolver(d, Policy{})
	v, other := r.Resolve(rec, Facts{}, now), r.Resolve(rec, Facts{}, now)
	model, vendor := d.Slot("model"), d.Slot("vendor")
	v.Set(model, value.OfText("Tern"), now+1)
	v.Set(vendor, value.OfText("Skerry"), now+1)
	if got := readings(rec)[0].Value.Str(); got != "Skerry 14" || other.Value(model).Str() != "Skerry 14" ||
		other.Value(vendor).Known() {
		t.Errorf("the record says %s, another view %s and %s", got, other.Value(model), other.Value(vendor))
	}
	if v.Value(model).Str() != "Tern" || v.Get(vendor, now+2).Known() || !v.Get(vendor, now).Known() {
		t.Errorf("the view says %s and %s", v.Value(model), v.Value(vendor))
	}
}

// Streams of each format: every item says where it stands, and either what it is
// or what is wrong with it; a reader never goes down, and ends.
func FuzzStream(f *testing.F) {
	f.Add("id,source,os.version\nd1,mdm,1.2\n")
	f.Add("id,form\n\"open,laptop\n")
	f.Add(`[{"identity":{"id":"a"}},{}]`)
	f.Add(`{"reports":[{"identity":{"id":"a"}}`)
	f.Add("\ufeff{\"identity\":{\"id\":\"a\"},\"evidence\":{}}\n\n{")
	d := NewDictionary()
	f.Fuzz(func(t *testing.T, text string) {
		for _, format := range []Format{CSV, JSON, NDJSON} {
			items := 0
			for it := range d.Read(strings.NewReader(text), format, "", now) {
				if it.Report == nil && it.Err == nil {
					t.Fatalf("%q as %v: an item is %+v", text, format, it)
				}
				if it.Line < 0 || it.Err == nil && it.Line == 0 {
					t.Fatalf("%q as %v: an item stands at %d", text, format, it.Line)
				}
				if items++; items > len(text)+2 {
					t.Fatalf("%q as %v does not end", text, format)
				}
			}
		}
	})
}

func readings(r *Record) []Reading { return slices.Collect(r.All()) }

// A report that comes late is left as it was, and so is what the record knows better.
func TestALateReportChangesNothing(t *testing.T) {
	d := NewDictionary()
	at := func(when, rest string) *Report {
		return report(t, d, `{"identity":{"id":"d"},"source":"mdm","observed_at":"2026-11-20T`+when+`:00Z","evidence":`+rest+`}`)
	}
	rec := (*Record)(nil).With(at("07:00", `{"managed":true,"model":"Tern","vendor":{"unavailable":"no rights"}}`))
	late := at("06:00", `{"managed":false,"vendor":"Skerry","os.build":"7a"}`)
	said := slices.Clone(late.Readings)
	if got := readings(rec.With(late)); len(got) != 4 || !got[0].Value.IsTrue() || got[3].Value.Known() ||
		got[3].Unavailable != "no rights" || got[2].Value.Str() != "7a" {
		t.Errorf("the record is now %+v", got)
	}
	for r := range rec.Of("location") { // which would stand before what there is
		t.Errorf("of what nobody said: %+v", r)
	}
	for i, r := range late.Readings {
		if r.At != said[i].At || !r.Value.Equal(said[i].Value) {
			t.Errorf("the report says now %+v, said %+v", r, said[i])
		}
	}
}

// A reading of every device of a fleet is in memory but once.
func TestWhatManyReportIsKeptOnce(t *testing.T) {
	d := NewDictionary()
	of := func(id, free string) *Record {
		return (*Record)(nil).With(report(t, d, `{"identity":{"id":"`+id+`"},"evidence":{"model":"Tern","managed":true,
			"os.version":"14.2","disk.encrypted":{"unavailable":"no rights"},"serial":"`+id+`"}}`))
	}
	of("a", "1")
	of("b", "2")
	one, other := of("c", "3"), of("d", "4")
	if one.layout != other.layout {
		t.Error("two devices that are reported of alike have a layout each")
	}
	for i, l := range one.labels {
		if alike := one.held[i].value == other.held[i].value; alike != (l.name != "serial") {
			t.Errorf("%s of both is kept once: %t", l.name, alike)
		}
	}
}
