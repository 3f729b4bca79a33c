package ironledger

import (
	"os"
	"path/filepath"
	"regexp"
	"strings"
	"testing"

	"ironledger.example/core/evidence"
	"ironledger.example/core/ledger"
	"ironledger.example/internal/bearer"
)

func text(t *testing.T, name string) string {
	t.Helper()
	raw, err := os.ReadFile(name)
	if err != nil {
		t.Fatal(err)
	}
	return string(raw)
}

// The documents that list something list all of it.
func TestDocumentsAreWhole(t *testing.T) {
	attributes, kinds := text(t, "docs/rulebook.md"), text(t, "docs/ledger.md")
	for _, a := range evidence.NewDictionary().Attributes() {
		if !strings.Contains(attributes, "`"+a.Name+"`") {
			t.Errorf("docs/rulebook.md does not tell of the attribute %s", a.Name)
		}
	}
	for _, k := range ledger.Kinds {
		group, _, _ := strings.Cut(string(k), ".")
		if !strings.Contains(kinds, "`"+string(k)+"`") && !strings.Contains(kinds, "`"+group+".*`") {
			t.Errorf("docs/ledger.md does not tell of the kind %s", k)
		}
	}
}

// The table of roles has the rights that each has.
func TestTheTableOfRolesIsTrue(t *testing.T) {
	running := text(t, "docs/running.md")
	for _, role := range []bearer.Role{bearer.Reader, bearer.Helpdesk, bearer.Author, bearer.Admin, bearer.Enforcer,
		bearer.Source, bearer.Receiver} {
		var rights []string
		for _, p := range bearer.Permissions {
			if role.May(p) {
				rights = append(rights, string(p))
			}
		}
		line := regexp.MustCompile(`(?m)^\| ` + string(role) + ` \|.*\| (.*) \|$`).FindStringSubmatch(running)
		if line == nil || line[1] != strings.Join(rights, ", ") {
			t.Errorf("docs/running.md has %q for a %s, who may %s", line, role, rights)
		}
	}
}

// Links between documents, and to pictures, lead somewhere.
func TestLinksInDocumentsLeadSomewhere(t *testing.T) {
	files, err := filepath.Glob("docs/*.md")
	if err != nil {
		t.Fatal(err)
	}
	decisions, err := filepath.Glob("docs/decisions/*.md")
	if err != nil {
		t.Fatal(err)
	}
	code, link := regexp.MustCompile("`[^`]*`"), regexp.MustCompile(`\]\(([^)#]+)(#[^)]*)?\)`)
	for _, file := range append(append(files, decisions...), "README.md", "CONTRIBUTING.md") {
		for _, m := range link.FindAllStringSubmatch(code.ReplaceAllString(text(t, file), ""), -1) {
			if strings.Contains(m[1], "://") {
				continue
			}
			if _, err := os.Stat(filepath.Join(filepath.Dir(file), m[1])); err != nil {
				t.Errorf("%s leads to %s, which is not there", file, m[1])
			}
		}
	}
}
