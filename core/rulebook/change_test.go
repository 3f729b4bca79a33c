package rulebook

import (
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
)

// house reads the rulebook of the demo, files and all.
func house(t testing.TB) []File {
	t.Helper()
	names, err := filepath.Glob("../../demo/rulebook/*")
	if err != nil || len(names) == 0 {
		t.Fatal("there is no demo", err)
	}
	var files []File
	for _, name := range names {
		raw, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		files = append(files, File{filepath.Base(name), string(raw)})
	}
	return files
}

// changed is the same rulebook with one text put for another in all its files.
func changed(t *testing.T, files []File, pairs ...string) []File {
	t.Helper()
	out := slices.Clone(files)
	for i := 0; i < len(pairs); i += 2 {
		found := false
		for j := range out {
			if strings.Contains(out[j].Text, pairs[i]) {
				out[j].Text, found = strings.Replace(out[j].Text, pairs[i], pairs[i+1], 1), true
				break
			}
		}
		if !found {
			t.Fatalf("no file holds %q", pairs[i])
		}
	}
	return out
}

func mustLoad(t testing.TB, files []File) *Rulebook {
	t.Helper()
	rb, err := Load(files)
	if err != nil {
		t.Fatal(err)
	}
	return rb
}

func TestIssuersComeFromFilesBeside(t *testing.T) {
	files := house(t)
	rb := mustLoad(t, files)
	if is := rb.Policy.Issuers; len(is) != 1 || is[0].Binds != "serial" || is[0].CRL == nil ||
		rb.MaxWaiver != 30*24*3600*1_000_000 {
		t.Errorf("the issuers are %+v", is)
	}
	const line = "{id: device-ca, title: Gullholm Device Root, file: device-ca.pem, crl: device-ca.crl, binds: serial, max_lifetime: 14d}"
	for with, want := range map[string]string{
		strings.Replace(line, "device-ca.pem", "other.pem",
			1): "there is no file other.pem beside the rulebook; there are",
		strings.Replace(line, "device-ca.pem", "gates.yaml", 1):       "is not the name of a PEM file",
		strings.Replace(line, "device-ca.pem", "../../etc/passwd", 1): "is not the name of a PEM file",
		strings.Replace(line, "device-ca.pem", "device-ca.crl",
			1): "of type X509 CRL stands where certificates were expected",
		strings.Replace(line, "device-ca.crl", "device-ca.pem", 1): "no PEM block of type X509 CRL",
		strings.Replace(line, "binds: serial", "binds: colour", 1): "is not a identity to bind to",
		strings.Replace(line, "file: device-ca.pem, ", "", 1):      "needs file",
		strings.Replace(line, "14d", "-14d", 1):                    "is not a duration",
		line + "\n  - " + line:                                     "the id device-ca is used twice in issuers",
	} {
		if _, err := Load(changed(t, files, line, with)); err == nil || !strings.Contains(err.Error(), want) {
			t.Errorf("%s gives %v, want %q", with, err, want)
		}
	}
	if _, err := Load(files[:1]); err == nil {
		t.Error("baselines alone are a rulebook")
	}
	if _, err := Load([]File{{"a.pem", "x"}}); err == nil || !strings.Contains(err.Error(), "no YAML file") {
		t.Errorf("a PEM file alone gives %v", err)
	}
}

func TestRemediesAreTextWithLinks(t *testing.T) {
	const book = "rulebook: x\nbaselines: [{id: a, rules: [{id: b, check: managed, remedy: {en: {title: 'TITLE', steps: 'STEPS'}}}]}]\n"
	for _, c := range []struct{ title, steps, want string }{
		{"Update", "See [the guide](https://help.example/a) or [call](tel:4400).", ""},
		{"Update", "Press 1 < 2 and a <- b.", ""},
		{"Update", "<b>Now</b>", "begins HTML"},
		{"<img src=x>", "", "begins HTML"},
		{"Update", "[here](javascript:alert)", "is not a link to https, mailto or tel"},
		{"Update", "[here](http://plain.example)", "is not a link to https, mailto or tel"},
		{"See [it](https://x.example)", "", "a title has no links"},
	} {
		_, err := load1(strings.NewReplacer("TITLE", c.title, "STEPS", c.steps).Replace(book))
		if (err == nil) != (c.want == "") || err != nil && !strings.Contains(err.Error(), c.want) {
			t.Errorf("%s %s gives %v, want %q", c.title, c.steps, err, c.want)
		}
	}
}

func TestHowSourcesCombine(t *testing.T) {
	for text, want := range map[string]string{
		"combine: {storage: worst, threat: rank, os.version: worst}": "",
		"combine: {certs: worst}":                                    "of which none is worse than another",
		"combine: {stroage: worst}":                                  "no attribute begins with stroage",
		"combine: {os: worst}":                                       "os.build is a text",
		"combine: {storage: best}":                                   "best is not a way to combine",
		"waivers: {max: 0s}":                                         "allowed to live for some time",
		"waivers: {maximum: 3d}":                                     "has no key maximum",
	} {
		_, err := load1("rulebook: x\n" + text + "\n")
		if (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s gives %v, want %q", text, err, want)
		}
	}
}
