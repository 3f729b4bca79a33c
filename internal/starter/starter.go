// Package starter writes rulebooks to begin with: one made from a few answers, and examples that are in the binary.
package starter

import (
	"embed"
	"fmt"
	"io/fs"
	"path"
	"slices"
	"strings"
	"text/template"

	"ironledger.example/core/rulebook"
)

//go:embed examples/*.yaml
var examples embed.FS

// Answers are what a starter is made from; the zero one has defaults.
type Answers struct {
	Name      string   // of the rulebook; "" for the default one
	Ladder    []string // lowest first; none for the default one
	Platforms []string // none for all that a starter knows
	Groups    []string // of people; none for everybody alone
}

// Platforms are those that a starter has rules for, with the version that is current there.
var Platforms = []struct{ Name, Version string }{
	{"windows", "10.0.22631"}, {"macos", "14.6"}, {"linux", "12.5"}, {"chromeos", "128"},
	{"ios", "17.5"}, {"ipados", "17.5"}, {"android", "14"},
}

// Name is the default one.
const Name = "house"

// Ladder is the default one.
var Ladder = []string{"barred", "unproven", "limited", "sound", "strong"}

// Examples lists the names of the examples.
func Examples() (names []string) {
	entries, err := fs.ReadDir(examples, "examples")
	if err != nil {
		panic(err) // they are in the binary
	}
	for _, e := range entries {
		names = append(names, strings.TrimSuffix(e.Name(), ".yaml"))
	}
	return names
}

// Example is the text of an example.
func Example(name string) (string, error) {
	if !slices.Contains(Examples(), name) {
		return "", fmt.Errorf("there is no example %q; there are %s", name, strings.Join(Examples(), ", "))
	}
	raw, err := fs.ReadFile(examples, path.Join("examples", name+".yaml"))
	return string(raw), err
}

// filled are the answers as the template reads them.
type filled struct {
	Name                          string
	Ladder                        []string
	Computers, Phones             []platform
	Groups                        []string
	Low, Doubt, Middle, High, Top string
}

type platform struct{ Name, Version string }

// Compose makes a rulebook from answers. The error says which answer is none.
func Compose(a Answers) (string, error) {
	f := filled{Name: a.Name, Ladder: a.Ladder, Groups: a.Groups}
	if f.Name == "" {
		f.Name = Name
	}
	if len(f.Ladder) == 0 {
		f.Ladder = Ladder
	}
	if len(f.Ladder) < 2 {
		return "", fmt.Errorf("a ladder has at least two levels")
	}
	n := len(f.Ladder)
	f.Low, f.Doubt, f.Middle, f.High, f.Top = f.Ladder[0], f.Ladder[min(1, n-2)], f.Ladder[(n-1)/2],
		f.Ladder[n-2], f.Ladder[n-1]
	for _, p := range a.Platforms {
		if !slices.ContainsFunc(Platforms, func(x struct{ Name, Version string }) bool { return x.Name == p }) {
			known := make([]string, len(Platforms))
			for i, x := range Platforms {
				known[i] = x.Name
			}
			return "", fmt.Errorf("%q is not a platform that a starter has rules for; there are %s", p,
				strings.Join(known, ", "))
		}
	}
	for _, p := range Platforms {
		if len(a.Platforms) > 0 && !slices.Contains(a.Platforms, p.Name) {
			continue
		}
		if slices.Contains([]string{"ios", "ipados", "android"}, p.Name) {
			f.Phones = append(f.Phones, p)
		} else {
			f.Computers = append(f.Computers, p)
		}
	}
	var b strings.Builder
	if err := page.Execute(&b, f); err != nil {
		return "", err
	}
	text := b.String()
	if _, err := rulebook.Load([]rulebook.File{{Name: "rulebook.yaml", Text: text}}); err != nil {
		return "", fmt.Errorf("no rulebook can be made of these answers: %w", err)
	}
	return text, nil
}

var page = template.Must(template.New("rulebook").Funcs(template.FuncMap{"join": strings.Join}).Parse(`# A rulebook to begin with. Everything here may be changed:
#   ironledger rulebook check {{.Name}}.yaml      finds what is wrong with it
#   ironledger rulebook test {{.Name}}.yaml       tries the examples at its end
#   ironledger rulebook rehearse {{.Name}}.yaml   tells what it would do to your fleet
#   ironledger rulebook publish {{.Name}}.yaml    puts it in force
rulebook: {{.Name}}

# The levels of trust, the lowest first.
ladder: [{{join .Ladder ", "}}]

# How old a reading may be before it counts as unknown. A threat sensor reports more often.
freshness: {default: 3d, threat: 4h}

# From which score on a threat has which level, for sensors that give a score alone.
threat_bands: {low: 1, medium: 40, high: 70, critical: 90}

# Exceptions end, those of the help desk soon; for what bars a device a second person is needed.
waivers: {max: 30d, helpdesk: 2d, approve: [{{.Low}}]}

# Accounts that pass every gate, loudly. Put yours here, and keep them somewhere safe.
break_glass: [emergency@house.example]

# What is protected. A resource's url lets a proxy in front of it ask by address.
resources:
  - {id: handbook, title: Handbook, tags: [everyday]}
  - {id: accounts, title: Accounts, tags: [money]}

baselines:
{{- if .Computers}}
  - id: computer
    title: Laptops and desktops
    applies: form in [laptop, desktop]
    rules:
      - id: os-current
        title: Operating system is current
        check:
{{- range .Computers}}
          {{.Name}}: os.version >= {{.Version}}
{{- end}}
        cap: {{.Middle}}
        grace: 7d
        remedy: {en: {title: Update the operating system, steps: Open the system settings and install all updates.}}
      - id: disk-encrypted
        title: System disk is encrypted
        check: storage.encrypted
        cap: {{.Middle}}
        remedy: {en: {title: Encrypt the disk, steps: Open the settings of the disk and switch its encryption on.}}
      - id: locks-itself
        title: Screen locks within 15 minutes
        check: screen_lock.after <= 15m
        cap: {{.High}}
        remedy: {en: {title: Lock the screen sooner, steps: Set the lock of the screen to 15 minutes or less.}}
      - id: no-threat
        title: Threat level is low
        check: threat.level <= low
        cap: {{.Low}}
        unknown: {{.Top}}
        waivable: false
        remedy: {en: {title: Have the device looked at, steps: Bring it to the help desk and do not use it before.}}
{{- end}}
{{- if .Phones}}
  - id: phone
    title: Phones and tablets
    applies: form in [phone, tablet]
    rules:
      - id: os-current
        title: Operating system is current
        check:
{{- range .Phones}}
          {{.Name}}: os.version >= {{.Version}}
{{- end}}
        cap: {{.Middle}}
        grace: 7d
        remedy: {en: {title: Update the system, steps: Open the settings and install the newest version.}}
      - id: passcode
        title: Passcode is set
        check: passcode.set
        cap: {{.Low}}
        remedy: {en: {title: Set a passcode, steps: Open the settings and set one of six digits or more.}}
      - id: long-passcode
        title: Passcode of six digits
        check: passcode.length >= 6
        cap: {{.High}}
        remedy: {en: {title: Set a longer passcode, steps: Open the settings and set one of six digits or more.}}
      - id: untampered
        title: System is not tampered with
        check: not integrity.tampered
        cap: {{.Low}}
        remedy: {en: {title: Have the device set up again, steps: Bring it to the help desk.}}
{{- end}}

gates:
  - id: everyday
    number: 100
    title: Everyday things from what is not in trouble
    who: {everyone: true}
    what: {tags: [everyday]}
    need: level > {{.Low}}
    message: {en: This device is in trouble. The help desk helps you on.}
  - id: money
    number: 200
    title: Accounts from devices in order, with a second factor
    who: {{if .Groups}}{groups: [{{join .Groups ", "}}]}{{else}}{everyone: true}{{end}}
    what: {tags: [money]}
    need: level == {{.Top}} and auth.mfa
    otherwise: step-up
    message: {en: The accounts need a device in order and a second factor.}

# Small cases with the outcome that they must have: a rulebook with one that fails is not published.
examples:
{{- if .Computers}}
{{- with index .Computers 0}}
  - title: A computer in order
    device: {form: laptop, platform: {{.Name}}, os.version: "{{.Version}}", storage.encrypted: true, screen_lock.after: 10m}
    level: {{$.Top}}
  - title: A computer without an encrypted disk
    device: {form: laptop, platform: {{.Name}}, os.version: "{{.Version}}", storage.encrypted: false, screen_lock.after: 10m}
    level: {{$.Middle}}
{{- end}}
{{- end}}
{{- if .Phones}}
{{- with index .Phones 0}}
  - title: A phone that was tampered with
    device: {form: phone, platform: {{.Name}}, os.version: "{{.Version}}", passcode.set: true, passcode.length: 6, integrity.tampered: true}
    level: {{$.Low}}
{{- end}}
{{- end}}
`))
