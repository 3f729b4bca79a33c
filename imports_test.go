// Package ironledger holds the tests that are about the whole of the repository.
package ironledger

import (
	"bytes"
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"
)

const module = "ironledger.example/"

// mayImport says, for each folder, which of ours its packages may import: they and
// what is below them. Imports run one way.
var mayImport = map[string][]string{
	"core/value":       {},
	"core/textfile":    {},
	"core/yamltext":    {},
	"core/eap":         {},
	"core/certificate": {"core/value"},
	// The text of conditions and its tree know nothing of what is made of them.
	"core/condition/syntax":   {"core/value"},
	"core/condition":          {"core/condition/syntax", "core/value"},
	"core/directory":          {"core/yamltext"},
	"core/ledger":             {"core/value"},
	"core/evidence":           {"core/certificate", "core/condition", "core/textfile", "core/value"},
	"core/authority":          {"core/certificate", "core/value"},
	"core/rulebook/tree":      {"core/condition", "core/value", "core/yamltext"},
	"core/rulebook/plaintext": {"core/rulebook/tree"},
	"core/control":            {"core/rulebook/tree"},
	"core/account": {"core/access", "core/control", "core/event", "core/ledger", "core/posture", "core/rulebook",
		"core/value"},
	"core/rulebook/form": {"core/authority", "core/certificate", "core/control", "core/evidence", "core/rulebook",
		"core/rulebook/tree"},
	"core/rulebook": {"core/authority", "core/certificate", "core/condition", "core/control", "core/evidence",
		"core/rulebook/plaintext", "core/rulebook/tree", "core/value"},
	"core/feed":    {"core/evidence", "core/mapping", "core/value", "core/yamltext"},
	"core/mapping": {"core/condition", "core/directory", "core/evidence", "core/textfile", "core/value", "core/yamltext"},
	"core/posture": {"core/condition", "core/evidence", "core/rulebook", "core/value"},
	"core/access":  {"core/certificate", "core/condition", "core/evidence", "core/rulebook", "core/value"},
	"core/event": {"core/access", "core/condition", "core/evidence", "core/ledger", "core/posture",
		"core/rulebook", "core/value"},
	"core/signal": {"core/condition", "core/event", "core/evidence", "core/posture", "core/rulebook",
		"core/value"},
	"core/heard":       {"core/evidence", "core/rulebook", "core/signal", "core/value"},
	"core/rehearsal":   {"core"},
	"core/review":      {"core/condition", "core/evidence", "core/rulebook", "core/value"},
	"core/statement":   {},
	"core/revision":    {"core/condition", "core/evidence", "core/rulebook", "core/value"},
	"internal/keyfile": {"core"},
	"internal/rowhash": {},
	"internal/proven":  {"core"},
	"internal/store": {"core", "internal/keyfile", "internal/proven", "internal/rowhash", "internal/store/bulk",
		"internal/store/mention"},
	"internal/store/bulk": {},
	// Only SQL over the entries: where to look for whom they speak of.
	"internal/store/mention": {"core"},
	"internal/versioned":     {},
	"internal/kept":          {"core", "internal/fault"},

	"internal/ids":      {},
	"internal/fault":    {"core"},
	"internal/bearer":   {"core", "internal/store"},
	"internal/house":    {"core", "internal/smalltext", "internal/versioned"},
	"internal/reported": {},
	"internal/starter":  {"core"},
	"internal/state": {"core", "internal/house", "internal/interned", "internal/reported", "internal/kept", "internal/bearer", "internal/fault",
		"internal/store", "internal/versioned"},
	"internal/engine": {"core", "internal/ids", "internal/keyfile", "internal/state", "internal/store"},
	"internal/intake": {"core", "api", "internal/engine", "internal/state"},
	"internal/past":   {"core", "api", "internal/engine", "internal/fault", "internal/state", "internal/store"},
	"internal/upload": {"core", "api", "internal/engine", "internal/fault", "internal/intake", "internal/kept",
		"internal/state"},
	"internal/audit": {"core", "api", "internal/engine", "internal/fault", "internal/keyfile", "internal/kept",
		"internal/state", "internal/store"},
	"internal/decision": {"core", "api", "internal/bearer", "internal/kept", "internal/engine",
		"internal/fault", "internal/ids",
		"internal/past",
		"internal/state", "internal/store", "internal/tally"},
	"internal/authority": {"core", "internal/engine", "internal/fault", "internal/intake", "internal/kept",
		"internal/sealed",
		"internal/state", "internal/versioned"},
	"internal/admin": {"core", "api", "internal/authority", "internal/kept", "internal/bearer", "internal/decision",
		"internal/engine", "internal/fault",
		"internal/intake", "internal/state", "internal/store"},
	"internal/view": {"core", "api", "internal/authority", "internal/decision", "internal/engine",
		"internal/fault", "internal/kept", "internal/past", "internal/state", "internal/store",
		"internal/tally", "internal/view/find", "internal/view/fold", "internal/view/marked"},
	"internal/view/find": {"core", "internal/fault", "internal/giveway", "internal/smalltext", "internal/state",
		"internal/view/fold", "internal/view/marked"},
	"internal/view/marked": {"core", "internal/state", "internal/versioned", "internal/view/fold"},
	"internal/tally":       {"core", "internal/store"},
	"internal/view/fold":   {"core", "internal/giveway", "internal/state", "internal/versioned"},
	"internal/sealed":      {},
	"internal/radius":      {"core"},
	"internal/interned":    {},
	"internal/giveway":     {},
	"internal/smalltext":   {},
	"internal/network": {"core", "api", "internal/decision", "internal/engine", "internal/fault", "internal/intake",
		"internal/kept", "internal/radius", "internal/sealed", "internal/state"},
	"internal/outbound": {},
	"internal/controls": {"core", "api", "internal/engine", "internal/fault", "internal/kept", "internal/past",
		"internal/state"},
	"internal/news": {"core", "internal/engine", "internal/store"},
	"internal/stream": {"core", "api", "internal/kept", "internal/bearer", "internal/engine", "internal/fault",
		"internal/news",
		"internal/outbound", "internal/sealed", "internal/state", "internal/store", "internal/view"},
	"internal/statement": {"core", "internal/engine", "internal/fault", "internal/ids", "internal/intake",
		"internal/kept",
		"internal/news", "internal/state"},
	"internal/notice": {"core", "api", "internal/kept", "internal/decision", "internal/engine", "internal/fault",
		"internal/news",
		"internal/state", "internal/view"},
	"internal/heard": {"core", "api", "internal/engine", "internal/intake", "internal/kept", "internal/outbound",
		"internal/state"},
	"internal/feed": {"core", "api", "internal/admin", "internal/engine", "internal/fault", "internal/heard",
		"internal/intake",
		"internal/kept", "internal/outbound", "internal/sealed", "internal/state"},
	"internal/alert": {"internal/authority", "internal/bearer", "internal/feed", "internal/heard", "core",
		"api", "internal/kept",
		"internal/engine", "internal/fault", "internal/state", "internal/stream", "internal/view"},
	"internal/service": {"internal/controls", "internal/network", "internal/statement", "internal/upload", "internal/authority", "internal/feed", "internal/heard",
		"internal/sealed", "internal/alert", "internal/stream", "internal/news", "internal/notice",
		"internal/admin", "internal/audit", "internal/decision", "internal/engine",
		"internal/intake", "internal/past", "internal/state", "internal/view"},
	"internal/recheck": {"internal/decision", "internal/engine", "internal/fault", "internal/state",
		"internal/store/mention", "internal/view"},
	"internal/metrics": {"core", "internal/engine", "internal/service", "internal/view"},
	"internal/httpapi/edge": {"core", "api", "internal/bearer", "internal/stream", "internal/admin",
		"internal/engine", "internal/fault", "internal/intake",
		"internal/store"},
	"internal/person": {"core"},
	"internal/httpapi/outside": {"core", "api", "internal/bearer", "internal/outbound", "internal/fault",
		"internal/kept", "internal/stream",
		"internal/heard", "internal/httpapi/edge", "internal/service"},
	"internal/httpapi/reports": {"core", "api", "internal/controls", "internal/fault", "internal/service"},
	"internal/httpapi/identity": {"core", "api", "internal/authority", "internal/statement", "internal/fault",
		"internal/httpapi/edge", "internal/intake", "internal/kept",
		"internal/service", "internal/store", "internal/view"},
	"internal/httpapi": {"internal/httpapi/reports", "internal/httpapi/identity", "internal/httpapi/outside", "internal/kept",
		"internal/feed", "internal/heard", "internal/httpapi/edge", "internal/person", "internal/notice",
		"internal/stream", "core", "api", "internal/admin", "internal/audit", "internal/bearer",
		"internal/decision", "internal/engine", "internal/fault", "internal/ids", "internal/intake",
		"internal/service", "internal/state", "internal/store", "internal/view"},
	"internal/client":        {"core", "api"},
	"internal/collect":       {},
	"internal/agent":         {"core/evidence", "api", "internal/collect", "internal/person"},
	"internal/cli/agent":     {"console", "internal/agent", "internal/cli/shell", "internal/person"},
	"internal/standin":       {"core/statement", "internal/radius", "internal/reliance"},
	"internal/reliance":      {"core/statement"},
	"internal/follow":        {"core", "api", "internal/client"},
	"internal/demo":          {"core", "api", "demo", "internal/agent", "internal/client", "internal/standin"},
	"internal/cli/shell":     {"core", "api", "internal/client"},
	"internal/cli/devices":   {"core", "api", "internal/cli/shell", "internal/client"},
	"internal/cli/streams":   {"core", "api", "internal/cli/shell", "internal/client"},
	"internal/cli/alerts":    {"core", "api", "internal/cli/shell", "internal/client"},
	"internal/cli/identity":  {"core", "api", "internal/cli/shell", "internal/client", "internal/reliance"},
	"internal/cli/networks":  {"core", "api", "internal/cli/shell", "internal/client"},
	"internal/cli/feeds":     {"core", "api", "internal/cli/shell", "internal/client"},
	"internal/cli/notices":   {"core", "api", "internal/cli/shell", "internal/client"},
	"internal/cli/decisions": {"core", "api", "internal/cli/shell", "internal/client"},
	"internal/cli/books": {"core", "api", "internal/starter", "internal/cli/devices", "internal/cli/shell",
		"internal/client"},
	"internal/cli/records": {"core", "api", "internal", "internal/cli/shell"},
	"internal/cli/run": {"core", "api", "console", "demo", "internal", "internal/cli/devices",
		"internal/cli/shell"},
	"internal/cli": {"internal/cli/agent", "internal/cli/identity", "internal/cli/feeds", "internal/cli/networks", "internal/cli/alerts",
		"internal/cli/streams", "internal/cli/notices", "internal/cli/books", "internal/cli/decisions",
		"internal/cli/devices", "internal/cli/records",
		"internal/cli/run", "internal/cli/shell", "internal/client"},
	"api":            {"core"},
	"api/generate":   {},
	"console":        {},
	"demo":           {"core"},
	"cmd/ironledger": {"internal/cli"},
	"e2e":            {"core", "api", "demo", "internal"},
	"bench":          {"core", "internal"},
	"bench/load":     {},
	".":              {"core", "internal/bearer"},
}

// coreMayImport are the packages of others that the core is made with: the standard
// library beside them, and nothing that reads a disk, a network or a clock.
var coreMayImport = []string{"golang.org/x/mod/sumdb/", "golang.org/x/text/",
	"github.com/go-json-experiment/json", "github.com/goccy/go-yaml"}

var coreMayNotImport = []string{"net", "net/http", "os", "database/sql", "io/fs", "path/filepath"}

// Imports run one way: whoever adds one that turns back, or a package that nobody has
// thought of, is told here.
func TestImportsRunOneWay(t *testing.T) {
	seen := map[string]bool{}
	eachGoFile(t, func(file, dir string) error {
		if strings.HasSuffix(file, "_test.go") && !strings.HasPrefix(file, "core/") {
			return nil
		}
		allowed, known := mayImport[dir]
		if seen[dir] = true; !known {
			t.Errorf("%s: nobody has said what %s may import", file, dir)
			return nil
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		for _, i := range parsed.Imports {
			name, err := strconv.Unquote(i.Path.Value)
			if err != nil {
				return err
			}
			ours, isOurs := strings.CutPrefix(name, module)
			switch {
			case isOurs && ours != dir && !slices.ContainsFunc(allowed,
				func(a string) bool { return within(ours, a) }):
				t.Errorf("%s imports %s, and %s may import %v", file, ours, dir, allowed)
			case strings.HasSuffix(file, "_test.go"): // tests may read files
			case within(dir, "core") && !isOurs && strings.Contains(name, ".") &&
				!slices.ContainsFunc(coreMayImport, func(p string) bool { return strings.HasPrefix(name, p) }):
				t.Errorf("%s imports %s: the core is made with %v", file, name, coreMayImport)
			case within(dir, "core") && slices.Contains(coreMayNotImport, name):
				t.Errorf("%s imports %s: the core does no I/O", file, name)
			}
		}
		return nil
	})
	for dir := range mayImport {
		if !seen[dir] && dir != "e2e" && dir != "bench" && dir != "." {
			t.Errorf("there is no package %s", dir)
		}
	}
}

// eachGoFile visits every Go file of the project, with the folder that it is in.
func eachGoFile(t *testing.T, visit func(file, dir string) error) {
	t.Helper()
	err := filepath.WalkDir(".", func(file string, d fs.DirEntry, err error) error {
		if err != nil {
			return err
		}
		if name := d.Name(); d.IsDir() &&
			(name == "node_modules" || name == "testdata" || strings.HasPrefix(name, ".") && name != ".") {
			return fs.SkipDir
		}
		if d.IsDir() || !strings.HasSuffix(file, ".go") {
			return nil
		}
		return visit(filepath.ToSlash(file), filepath.ToSlash(filepath.Dir(file)))
	})
	if err != nil {
		t.Fatal(err)
	}
}

func within(dir, parent string) bool {
	return dir == parent || strings.HasPrefix(path.Clean(dir), parent+"/")
}

// A package says its one job in its first sentence, and is no larger than one can keep
// in mind.
func TestPackagesSayTheirJob(t *testing.T) {
	const most = 2750 // lines without tests and what is generated
	lines, says := map[string]int{}, map[string]bool{}
	eachGoFile(t, func(file, dir string) error {
		if strings.HasSuffix(file, "_test.go") || strings.HasSuffix(file, ".gen.go") {
			return nil
		}
		text, err := os.ReadFile(file)
		if err != nil {
			return err
		}
		parsed, err := parser.ParseFile(token.NewFileSet(), file, text, parser.PackageClauseOnly|parser.ParseComments)
		if err != nil {
			return err
		}
		lines[dir] += bytes.Count(text, []byte("\n"))
		beginning := "Package " + parsed.Name.Name + " "
		if parsed.Name.Name == "main" {
			beginning = "Command "
		}
		says[dir] = says[dir] || strings.HasPrefix(parsed.Doc.Text(), beginning)
		return nil
	})
	for dir, n := range lines {
		if !says[dir] {
			t.Errorf("%s does not say what it is for", dir)
		}
		if n > most {
			t.Errorf("%s has %d lines", dir, n)
		}
	}
}

// A function fits a screen, or its comment says why it is over one.
func TestFunctionsFitAScreen(t *testing.T) {
	const screen = 62
	eachGoFile(t, func(file, _ string) error {
		if strings.HasSuffix(file, "_test.go") || strings.HasSuffix(file, ".gen.go") {
			return nil
		}
		set := token.NewFileSet()
		parsed, err := parser.ParseFile(set, file, nil, parser.ParseComments)
		if err != nil {
			return err
		}
		for _, d := range parsed.Decls {
			fn, is := d.(*ast.FuncDecl)
			if !is {
				continue
			}
			n := set.Position(fn.End()).Line - set.Position(fn.Pos()).Line + 1
			why := strings.Join(strings.Fields(fn.Doc.Text()), " ")
			if n > screen && !strings.Contains(why, "It is over a screen since ") {
				t.Errorf("%s: %s has %d lines, more than %d, and does not say why", file, fn.Name.Name, n, screen)
			}
		}
		return nil
	})
}
