package upload_test

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"strings"
	"testing"
	"unicode/utf16"

	"ironledger.example/api"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/service"
	"ironledger.example/internal/upload"
)

const house = `rulebook: r
break_glass: [master]
sources: [{id: office, provides: ["*"], identifies: true}, {id: sensor, provides: [threat]}]
baselines: [{id: all, rules: [{id: disk, check: storage.encrypted, cap: barred}]}]
`

func open(t *testing.T, dir string) *service.Service {
	t.Helper()
	s, err := service.Open(t.Context(), service.Options{Dir: dir, AdminToken: "il_a_token_for_tests_only",
		Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	if s.Snapshot().Book.Info.Version == 0 {
		if _, _, err := s.Admin.Publish(t.Context(), "author",
			api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: house}}}); err != nil {
			t.Fatal(err)
		}
	}
	return s
}

const sheet = "Asset;Serial No;System;Encrypted\nM-1;MU1;windows;Enabled\nM-2;MU2;macos;Disabled\n;;windows;Enabled\n"

const sheetMap = `{"identity":{"external_id":"Asset","serial":"Serial No"},"evidence":{"platform":"System",` +
	`"storage.encrypted":{"from":"Encrypted","words":{"Enabled":true,"Disabled":false}}}}`

// What a file is is told from its name and what stands in it, whatever its encoding.
func TestLook(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	wide := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune(sheet)) {
		wide = append(wide, byte(u), byte(u>>8))
	}
	for _, c := range []struct {
		name, file, format, list string
		items                    int
		own                      bool
		guess                    string // where -> what
	}{
		{"sheet.csv", sheet, "csv", "", 3, false, "/Serial No identity.serial"},
		{"export.txt", string(wide), "csv", "", 3, false, "/Encrypted evidence.storage.encrypted"},
		{"own.csv", "id,platform,storage.encrypted\nd1,windows,true\n", "csv", "", 1, true, ""},
		{"almost.csv", "id,platform,diskcrypt\nd1,windows,true\n", "csv", "", 1, false, ""},
		{"sensor.json", `{"meta":{"n":1},"machines":[{"sn":"MU1","risk":{"score":3}},{"sn":"MU2"}]}`, "json", "/machines", 2, false,
			"/risk/score evidence.threat.score"},
		{"list.json", `[{"serialNumber":"a"},{"serialNumber":"b"}]`, "json", "", 2, false, "/serialNumber identity.serial"},
		{"lines.ndjson", "{\"serial\":\"a\"}\n{\"serial\":\"b\"}\n", "ndjson", "", 2, false, "/serial identity.serial"},
		{"report.json", `{"source":"office","identity":{"id":"d1"},"evidence":{"platform":"ios","certs":[]}}`, "ndjson", "", 1, true, ""},
	} {
		got, err := s.Uploads.Look(&api.FileDraft{Name: c.name, File: []byte(c.file)})
		if err != nil {
			t.Errorf("%s: %v", c.name, err)
			continue
		}
		if got.Format != c.format || got.ListAt != c.list || got.Items != c.items || got.Own != c.own {
			t.Errorf("%s is %s with %d items at %q, own: %v", c.name, got.Format, got.Items, got.ListAt, got.Own)
		}
		said := ""
		for _, p := range got.Places {
			said += p.At + " " + p.Target + "\n"
		}
		if !strings.Contains(said, c.guess) {
			t.Errorf("%s: the guesses are\n%s", c.name, said)
		}
	}
	for name, file := range map[string]string{"empty": "", "blank": " \n\n", "a header alone": "a,b\n", "no JSON": "[{",
		"an empty list": "[]"} {
		_, err := s.Uploads.Look(&api.FileDraft{Name: "x.json", File: []byte(file)})
		if input := (*fault.InputError)(nil); !as(err, &input) || input.Pointer != "/file" {
			t.Errorf("%s is looked at with %v", name, err)
		}
	}
	if _, err := s.Uploads.Look(&api.FileDraft{Name: "x.csv", File: make([]byte, upload.MaxFile+1)}); err == nil {
		t.Error("a file that is too large is looked at")
	}
}

func as(err error, into **fault.InputError) bool {
	e, is := err.(*fault.InputError)
	*into = e
	return is
}

// A file is tried first, which takes nothing; brought in, its devices stand; its mapping is kept for the next.
func TestBring(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	ctx := context.Background()
	draft := api.FileImport{Name: "sheet.csv", File: []byte(sheet), Source: "office", Mapping: json.RawMessage(sheetMap),
		DryRun: true}
	got, err := s.Uploads.Bring(ctx, "desk", "", &draft)
	if err != nil || !got.Taken.Dry || got.Taken.Accepted != 2 || got.Lost != 1 || len(got.Remarks) == 0 ||
		got.Remarks[len(got.Remarks)-1].Item != 3 {
		t.Fatalf("a trial is %+v, %v", got, err)
	}
	if levels := fmt.Sprint(got.Taken.Results[0].Level, got.Taken.Results[1].Level); levels != "strongbarred" {
		t.Errorf("they would stand at %s", levels)
	}
	if n := s.Snapshot().Fleet.Len(); n != 0 {
		t.Errorf("a trial made %d devices", n)
	}
	draft.DryRun, draft.Keep = false, true
	if got, err = s.Uploads.Bring(ctx, "desk", "", &draft); err != nil || got.Taken.Accepted != 2 || got.Lost != 1 {
		t.Fatalf("it is brought in with %+v, %v", got, err)
	}
	if n := s.Snapshot().Fleet.Len(); n != 2 {
		t.Errorf("it made %d devices", n)
	}
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}
	s = open(t, dir)
	defer s.Close()
	if kept := s.Uploads.Mappings(); len(kept) != 1 || kept[0].Source != "office" || string(kept[0].Mapping) != sheetMap ||
		kept[0].By != "desk" {
		t.Errorf("kept is %+v", kept)
	}
	if err := s.Uploads.Forget(ctx, "office"); err != nil || len(s.Uploads.Mappings()) != 0 {
		t.Errorf("it is not forgotten: %v", err)
	}
	if err := s.Uploads.Forget(ctx, "office"); err == nil {
		t.Error("it is forgotten twice")
	}

	// A whole inventory that lists half of them is held back, and said to be so.
	half := draft
	half.File, half.Whole, half.Keep = []byte(strings.Join(strings.SplitAfter(sheet, "\n")[:2], "")), true, false
	if got, err = s.Uploads.Bring(ctx, "desk", "", &half); err != nil || got.Taken.Gone.Devices != 1 || got.Taken.Gone.Held == "" {
		t.Errorf("half an inventory is %+v, %v", got, err)
	}
	// In our own words it needs no mapping; another source's words are refused, as is what it may not say.
	own := api.FileImport{Name: "own.csv", File: []byte("external_id,source,platform\nM-1,office,linux\nM-2,sensor,linux\n"), Source: "office"}
	if got, err = s.Uploads.Bring(ctx, "desk", "", &own); err != nil || got.Taken.Accepted != 1 || got.Taken.Rejected != 1 {
		t.Errorf("in our own words it is %+v, %v", got, err)
	}
	for name, d := range map[string]api.FileImport{
		"no source":           {Name: "a.csv", File: []byte(sheet), Mapping: json.RawMessage(sheetMap)},
		"no mapping":          {Name: "a.csv", File: []byte(sheet), Source: "office"},
		"a wrong mapping":     {Name: "a.csv", File: []byte(sheet), Source: "office", Mapping: json.RawMessage(`{"identity":{"id":"Asset"},"evidence":{"platfrom":"System"}}`)},
		"one of people":       {Name: "a.csv", File: []byte(sheet), Source: "office", Mapping: json.RawMessage(`{"person":{"id":"Asset"}}`)},
		"a whole trial":       {Name: "a.csv", File: []byte(sheet), Source: "office", Mapping: json.RawMessage(sheetMap), DryRun: true, Whole: true},
		"an impact of nobody": {Name: "a.csv", File: []byte(sheet), Source: "office", Mapping: json.RawMessage(sheetMap), AcceptImpact: "x"},
		"nothing":             {Name: "a.csv", Source: "office"},
	} {
		_, err := s.Uploads.Bring(ctx, "desk", "", &d)
		if input := (*fault.InputError)(nil); !as(err, &input) {
			t.Errorf("%s is brought in with %v", name, err)
		}
	}
	none := api.FileImport{Name: "own.csv", File: []byte("external_id,platform\nM-1,linux\n"), Source: "office",
		Mapping: json.RawMessage("null"), Keep: true}
	if got, err = s.Uploads.Bring(ctx, "desk", "", &none); err != nil || got.Taken.Accepted != 1 || len(s.Uploads.Mappings()) != 0 {
		t.Errorf("no mapping is kept as one: %+v, %v, %+v", got, err, s.Uploads.Mappings())
	}
	if only := (api.FileImport{Name: "a.csv", File: []byte("external_id,source\nM-1,sensor\n")}); true {
		if got, err := s.Uploads.Bring(ctx, "sensor", "office", &only); err != nil || got.Taken.Accepted != 0 {
			t.Errorf("who may speak as office alone speaks as another: %+v, %v", got, err)
		}
	}
}

// Of a file of which nothing can be read all of that is told, no more than fits.
func TestRemarksAreBounded(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	file := "Asset;System;Encrypted\n" + strings.Repeat("M;windows;perhaps\n", 500)
	got, err := s.Uploads.Bring(t.Context(), "desk", "", &api.FileImport{Name: "a.csv", File: []byte(file), Source: "office", DryRun: true,
		Mapping: json.RawMessage(`{"identity":{"external_id":"Asset"},"evidence":{"storage.encrypted":{"from":"Encrypted","words":{"Enabled":true}}}}`)})
	if err != nil || len(got.Remarks) != 50 || got.More == 0 || !strings.Contains(got.Remarks[0].Message, "perhaps") {
		t.Errorf("%d remarks and %d more, %v", len(got.Remarks), got.More, err)
	}
}
