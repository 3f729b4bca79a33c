package form

import (
	"encoding/json"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"

	"github.com/oasdiff/yaml"
	"github.com/santhosh-tekuri/jsonschema/v6"

	"ironledger.example/core/rulebook"
)

// The schema must take every rulebook that loads, and know each section.
func TestSchemaTakesWhatLoads(t *testing.T) {
	raw, err := json.Marshal(Schema())
	if err != nil {
		t.Fatal(err)
	}
	doc, err := jsonschema.UnmarshalJSON(strings.NewReader(string(raw)))
	if err != nil {
		t.Fatal(err)
	}
	c := jsonschema.NewCompiler()
	if err := c.AddResource(SchemaURL, doc); err != nil {
		t.Fatal(err)
	}
	schema, err := c.Compile(SchemaURL)
	if err != nil {
		t.Fatal(err)
	}
	valid := func(text string) error {
		asJSON, err := yaml.YAMLToJSON([]byte(text))
		if err != nil {
			t.Fatal(err)
		}
		v, err := jsonschema.UnmarshalJSON(strings.NewReader(string(asJSON)))
		if err != nil {
			t.Fatal(err)
		}
		return schema.Validate(v)
	}
	names, err := filepath.Glob("../../../demo/rulebook/*.yaml")
	if err != nil || len(names) == 0 {
		t.Fatal("there is no demo", err)
	}
	for _, name := range append(names, "../testdata/whole.yaml") {
		text, err := os.ReadFile(name)
		if err != nil {
			t.Fatal(err)
		}
		if err := valid(string(text)); err != nil {
			t.Errorf("%s: %v", name, err)
		}
	}
	for _, text := range []string{"rulebok: x", "ladder: [one]", "gates: [{id: a}]",
		"baselines: [{id: A, rules: []}]", "threat_bands: {mild: 3}", "freshness: {os: tomorrow}",
		"combine: {os: best}"} {
		if valid(text) == nil {
			t.Errorf("the schema takes %q", text)
		}
	}
	properties := Schema()["properties"].(map[string]any)
	for _, s := range append(slices.Clone(rulebook.Sections), rulebook.Planned...) {
		if properties[s] == nil {
			t.Errorf("the schema does not know the section %s", s)
		}
	}
	if len(properties) != len(rulebook.Sections)+len(rulebook.Planned) {
		t.Error("the schema knows sections that the loader does not")
	}
}
