// Package directory reads the people an organisation has: who there is, and
// which groups each person is in.
package directory

import (
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	"golang.org/x/text/language"

	"ironledger.example/core/yamltext"
)

// Person is somebody in the directory.
type Person struct {
	ID     string   `json:"id" yaml:"id"`
	Name   string   `json:"name" yaml:"name"`
	Groups []string `json:"groups" yaml:"groups"`
	// Mail is where notices go, when the id is no address of mail.
	Mail string `json:"mail,omitempty" yaml:"mail"`
	// Language is a tag as sv (RFC 5646): what notices speak. "" for nobody knows.
	Language string `json:"language,omitempty" yaml:"language"`
}

// Equal reports whether two people are the same in everything.
func (p *Person) Equal(o *Person) bool {
	return p.ID == o.ID && p.Name == o.Name && p.Mail == o.Mail && p.Language == o.Language &&
		slices.Equal(p.Groups, o.Groups)
}

// Refusal is a line that was not taken, and why.
type Refusal struct {
	Line    int    `json:"line"` // of a YAML or JSON list, the place in the list
	Message string `json:"message"`
}

// Check gives each person a fair form and takes out those that have none:
// without an id, or with the id of one before.
func Check(people []Person, lines []int) ([]Person, []Refusal) {
	out, refused := make([]Person, 0, len(people)), []Refusal{}
	seen := map[string]int{}
	for i, p := range people {
		line := i + 1
		if lines != nil {
			line = lines[i]
		}
		p.ID, p.Name = strings.TrimSpace(p.ID), strings.TrimSpace(p.Name)
		p.Mail, p.Language = strings.TrimSpace(p.Mail), strings.TrimSpace(p.Language)
		first, dup := seen[p.ID]
		switch {
		case p.ID == "":
			refused = append(refused, Refusal{line, "a person needs an id"})
			continue
		case !utf8.ValidString(p.ID + p.Name + strings.Join(p.Groups, "")):
			refused = append(refused, Refusal{line, "the id, the name or a group is not UTF-8"})
			continue
		case len(p.ID) > 200 || len(p.Name) > 200 || len(p.Groups) > 500:
			refused = append(refused, Refusal{line,
				"the id or name is longer than 200 bytes, or there are more than 500 groups"})
			continue
		case p.Mail != "" && (strings.Count(p.Mail, "@") != 1 || len(p.Mail) > 254 || strings.ContainsFunc(p.Mail, unfit)):
			refused = append(refused, Refusal{line, fmt.Sprintf("%q is not an address of mail", p.Mail)})
			continue
		case p.Language != "" && !isLanguage(p.Language):
			refused = append(refused, Refusal{line, fmt.Sprintf("%q is not a language tag, as sv", p.Language)})
			continue
		case dup:
			refused = append(refused, Refusal{line, fmt.Sprintf("%s stands in line %d already", p.ID, first)})
			continue
		}
		seen[p.ID] = line
		groups := []string{}
		for _, g := range p.Groups {
			if g = strings.TrimSpace(g); g != "" && !slices.Contains(groups, g) {
				groups = append(groups, g)
			}
		}
		p.Groups = groups
		out = append(out, p)
	}
	return out, refused
}

// unfit reports whether a letter cannot stand in an address of mail, as we take it.
func unfit(r rune) bool { return r <= ' ' || r >= 0x7f || strings.ContainsRune(`,;:<>()[]"\`, r) }

func isLanguage(text string) bool {
	_, err := language.Parse(text)
	return err == nil
}

// columns are those of a table of people.
var columns = []string{"id", "name", "groups", "mail", "language"}

// ReadCSV reads a table with the columns id, name and groups, the groups parted by
// semicolons, and if there are, mail and language. The error is for a table that cannot be read at all.
func ReadCSV(in io.Reader) ([]Person, []Refusal, error) {
	r := csv.NewReader(in)
	header, err := r.Read()
	if err != nil {
		return nil, nil, fmt.Errorf("the header id,name,groups cannot be read: %w", err)
	}
	header[0] = strings.TrimPrefix(header[0], "\ufeff")
	column := map[string]int{}
	for _, name := range columns {
		column[name] = -1
	}
	for i, h := range header {
		h = strings.TrimSpace(h)
		if at, known := column[h]; !known || at >= 0 {
			return nil, nil, fmt.Errorf("column %d is %q; the columns are %s, each once", i+1, h,
				strings.Join(columns, ", "))
		}
		column[h] = i
	}
	if column["id"] < 0 {
		return nil, nil, errors.New("there is no column id")
	}
	var people []Person
	var lines []int
	var broken []Refusal
	for {
		row, err := r.Read()
		if err == io.EOF {
			break
		}
		var bad *csv.ParseError
		if errors.As(err, &bad) {
			broken = append(broken, Refusal{bad.StartLine, "not a CSV row: " + bad.Err.Error()})
			continue
		}
		if err != nil {
			return nil, nil, err
		}
		line, _ := r.FieldPos(0)
		cell := func(name string) string {
			if i := column[name]; i >= 0 {
				return row[i]
			}
			return ""
		}
		people = append(people, Person{cell("id"), cell("name"), strings.Split(cell("groups"), ";"), cell("mail"),
			cell("language")})
		lines = append(lines, line)
	}
	out, refused := Check(people, lines)
	return out, append(broken, refused...), nil
}

// ReadYAML reads a list of people; JSON is YAML too.
func ReadYAML(in io.Reader) (people []Person, refused []Refusal, err error) {
	text, err := io.ReadAll(in)
	if err != nil {
		return nil, nil, err
	}
	defer func() {
		if bad := recover(); bad != nil { // the YAML reader lost its way in hostile text
			people, refused, err = nil, nil, errors.New("this is not readable as YAML")
		}
	}()
	if line := yamltext.TooDeep(string(text)); line > 0 {
		return nil, nil, fmt.Errorf("line %d: brackets or lists are nested more than %d deep", line,
			yamltext.MaxNest)
	}
	if err := yaml.UnmarshalWithOptions(text, &people, yaml.Strict()); err != nil && err != io.EOF {
		return nil, nil, fmt.Errorf("not a list of people with id, name, groups, mail and language: %w", err)
	}
	people, refused = Check(people, nil)
	return people, refused, nil
}

// Read reads people as CSV when the text looks like a table, else as YAML.
func Read(text string) ([]Person, []Refusal, error) {
	first, _, _ := strings.Cut(strings.TrimSpace(strings.TrimPrefix(text, "\ufeff")), "\n")
	if strings.HasPrefix(first, "id") && !strings.Contains(first, ":") || strings.Contains(first, ",id") {
		return ReadCSV(strings.NewReader(text))
	}
	return ReadYAML(strings.NewReader(text))
}
