package books

import (
	"bufio"
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"ironledger.example/core/access"
	"ironledger.example/core/directory"
	"ironledger.example/core/evidence"
	"ironledger.example/core/mapping"
	"ironledger.example/core/rehearsal"
	"ironledger.example/core/rulebook"
	"ironledger.example/core/textfile"
	"ironledger.example/core/value"
	"ironledger.example/internal/cli/devices"
	"ironledger.example/internal/cli/shell"
)

// offline are the files that the offline commands work on.
type offline struct {
	rulebook, people, roster, requests, at string
	evidence, maps                         []string
	noGrace                                bool
}

func (o *offline) flags(c *cobra.Command) {
	f := c.Flags()
	f.StringVar(&o.rulebook, "rulebook", "", "the rulebook: a file or a folder")
	f.StringArrayVar(&o.evidence, "evidence", nil,
		"the reports: NDJSON, JSON or CSV, - for standard input; may be given several times")
	f.StringArrayVar(&o.maps, "map", nil,
		"FILE=MAPPING: what the words of a partner's inventory mean; of one --evidence the mapping alone")
	f.StringVar(&o.people, "people", "", "the directory: CSV id,name,groups or YAML")
	f.StringVar(&o.roster, "roster", "", "hardware registered in advance: CSV serial,hardware_id,note")
	f.StringVar(&o.at, "at", "", "the moment to work at, RFC 3339 (default: now)")
	f.BoolVar(&o.noGrace, "no-grace", false, "leave graces out: a failing rule counts at once")
	shell.Must(c.MarkFlagRequired("rulebook"))
}

// fleet builds the fleet of the files. bad is how many reports were refused.
func fleet(a *shell.App, o *offline) (f *rehearsal.Fleet, now int64, bad int, err error) {
	at, err := shell.Moment(o.at)
	if err != nil {
		return nil, 0, 0, err
	}
	now = value.Micros(at)
	rb, err := a.LoadRulebook(o.rulebook)
	if err != nil {
		return nil, 0, 0, rulebookError(o.rulebook, err)
	}
	var people []directory.Person
	if o.people != "" {
		text, err := a.Read(o.people)
		if err != nil {
			return nil, 0, 0, err
		}
		var refused []directory.Refusal
		if people, refused, err = directory.Read(text); err != nil {
			return nil, 0, 0, fmt.Errorf("%s: %w", o.people, err)
		}
		for _, r := range refused {
			bad++
			shell.Line(a.Err, "%s:%d: %s", o.people, r.Line, r.Message)
		}
	}
	f = rehearsal.NewFleet(rb, people)
	f.NoGrace = o.noGrace
	if o.roster != "" {
		n, err := register(a, f, o.roster)
		if bad += n; err != nil {
			return nil, 0, 0, err
		}
	}
	maps, err := o.mappings(rb)
	if err != nil {
		return nil, 0, 0, err
	}
	for _, path := range o.evidence {
		n, err := addEvidence(a, f, rb, path, maps[path], now)
		if bad += n; err != nil {
			return f, now, bad, err
		}
	}
	for _, r := range f.Waiting() {
		k := r.Keys()[0]
		shell.Line(a.Err, "%s speaks of %s %s, which nobody makes known (its report waits)", r.Source, k.Kind, k.Text)
	}
	return f, now, bad, nil
}

// mappings are those of the files of evidence that have one, by the path of the file.
func (o *offline) mappings(rb *rulebook.Rulebook) (map[string]*mapping.Mapping, error) {
	out := map[string]*mapping.Mapping{}
	for _, x := range o.maps {
		file, path, several := strings.Cut(x, "=")
		switch {
		case !several && len(o.evidence) == 1:
			file, path = o.evidence[0], x
		case !several:
			return nil, shell.Usagef("--map: say of which --evidence, as FILE=MAPPING")
		case !slices.Contains(o.evidence, file):
			return nil, shell.Usagef("--map: no --evidence is %s", file)
		}
		m, err := devices.LoadMapping(path, rb.Dict)
		if err != nil {
			return nil, err
		}
		out[file] = m
	}
	return out, nil
}

// register puts the hardware of a file on the roster. bad is how many lines
// were refused.
func register(a *shell.App, f *rehearsal.Fleet, path string) (bad int, err error) {
	in, err := a.Open(path)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	hardware, refused, err := directory.ReadRoster(in)
	if err != nil {
		return 0, fmt.Errorf("%s: %w", path, err)
	}
	for _, r := range refused {
		shell.Line(a.Err, "%s:%d: %s", path, r.Line, r.Message)
	}
	f.Register(hardware)
	return len(refused), nil
}

func rulebookError(path string, err error) error {
	var problems rulebook.Problems
	if errors.As(err, &problems) {
		return fmt.Errorf("the rulebook %s has %d problem(s)\n%w", path, len(problems), problems)
	}
	return err
}

func addEvidence(a *shell.App, f *rehearsal.Fleet, rb *rulebook.Rulebook, path string, m *mapping.Mapping,
	now int64) (bad int, err error) {
	in, err := a.Open(path)
	if err != nil {
		return 0, err
	}
	defer in.Close()
	first, all := shell.Head(textfile.Open(in))
	kind := evidence.Detect(path, first)
	if m != nil {
		if m.Nested() {
			kind = evidence.JSON
		}
		x := devices.NewMapped(a, m, all, kind)
		defer x.Close()
		defer func() { bad += x.Lost }()
		all, kind = x, evidence.NDJSON
	}
	for it := range rb.Dict.Read(all, kind, "", now) {
		if it.Line == 0 {
			return bad, fmt.Errorf("%s: %w", path, it.Err)
		}
		if it.Err == nil {
			var more []evidence.Refusal
			if more, it.Err = f.Add(it.Report); it.Err == nil {
				for _, r := range append(it.Report.Refused, more...) {
					shell.Line(a.Err, "%s:%d: %s: %s (this attribute is left out)", path, it.Line,
						r.Attribute, r.Message)
				}
				continue
			}
		}
		bad++
		shell.Line(a.Err, "%s:%d: %s (this report is left out)", path, it.Line, it.Err)
	}
	return bad, nil
}

// AppraiseCmd is the command appraise.
func AppraiseCmd(a *shell.App) *cobra.Command {
	var o offline
	c := &cobra.Command{
		Use:   "appraise --rulebook PATH --evidence FILE|-",
		Short: "Work out the standing of every device in a file of evidence, without a service",
		Long: `Work out the standing of every device in a file of evidence, without a service.

There is no history on files, so a grace begins at --at. A report that cannot be
taken is told of with its line and left out; then the exit code is 1.`,
		Example: `  ironledger appraise --rulebook demo/rulebook --evidence demo/devices.ndjson --people demo/people.csv --roster demo/roster.csv
  ironledger appraise --rulebook rules.yaml --evidence agent.ndjson --evidence mdm.csv --map mdm.csv=mdm.yaml
  ironledger appraise --rulebook rules.yaml --evidence - --at 2026-11-20T08:00:00Z -o ndjson < reports.ndjson`,
		Args: cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			f, now, bad, err := fleet(a, &o)
			if err != nil {
				return err
			}
			l := shell.Listing{Head: []string{"DEVICE", "LEVEL", "HELD BY", "CHANGES NEXT"},
				Items: []json.RawMessage{}}
			var all []rehearsal.Line
			for s := range f.Standings(now) {
				raw, err := json.Marshal(s)
				if err != nil {
					return err
				}
				l.Items = append(l.Items, raw)
				all = append(all, s)
				next := "-"
				if s.NextChange != nil {
					next = shell.ShortTime(*s.NextChange)
				}
				held := shell.Joined(s.Binding)
				if a.Format == "table" {
					held = shell.Brief(s.Binding)
				}
				l.Rows = append(l.Rows, []string{s.Device, s.Level, held, next})
			}
			l.Raw = all
			if err := a.Print(l); err != nil {
				return err
			}
			return shell.FailedIf(bad > 0)
		},
	}
	o.flags(c)
	shell.Must(c.MarkFlagRequired("evidence"))
	return c
}

// DecideCmd is the command decide.
func DecideCmd(a *shell.App) *cobra.Command {
	var o offline
	c := &cobra.Command{
		Use:   "decide --rulebook PATH --requests FILE|-",
		Short: "Answer AuthZEN requests from files, without a service",
		Long: `Answer AuthZEN evaluation requests, one a line, from files, without a service:
one AuthZEN response a line comes out. A request that cannot be read is answered
with decision false and an error in its context; then the exit code is 1.`,
		Example: `  ironledger decide --rulebook demo/rulebook --evidence demo/devices.ndjson --people demo/people.csv --requests requests.ndjson`,
		Args:    cobra.NoArgs,
		RunE: func(*cobra.Command, []string) error {
			f, now, bad, err := fleet(a, &o)
			if err != nil {
				return err
			}
			in, err := a.Open(o.requests)
			if err != nil {
				return err
			}
			defer in.Close()
			n, err := answer(a, f, in, o.requests, now)
			if err != nil {
				return err
			}
			return shell.FailedIf(bad+n > 0)
		},
	}
	o.flags(c)
	c.Flags().StringVar(&o.requests, "requests", "",
		"AuthZEN evaluation requests, one a line, - for standard input")
	shell.Must(c.MarkFlagRequired("requests"))
	return c
}

// refusal is the answer to a request that cannot be read, in the form that the
// boxcarred evaluations of AuthZEN use (section 7.2.1).
type refusal struct {
	Decision bool `json:"decision"`
	Context  struct {
		Error struct {
			Status  int    `json:"status"`
			Message string `json:"message"`
		} `json:"error"`
	} `json:"context"`
}

func answer(a *shell.App, f *rehearsal.Fleet, in io.Reader, path string, now int64) (bad int, err error) {
	lines := bufio.NewScanner(in)
	lines.Buffer(make([]byte, 64<<10), 1<<20)
	out := bufio.NewWriter(a.Out)
	defer out.Flush()
	enc := json.NewEncoder(out)
	enc.SetEscapeHTML(false)
	for n := 1; lines.Scan(); n++ {
		raw := bytes.TrimSpace(lines.Bytes())
		if len(raw) == 0 {
			continue
		}
		e, err := access.ParseEvaluation(raw)
		if err != nil {
			bad++
			shell.Line(a.Err, "%s:%d: %s", path, n, err)
			var r refusal
			r.Context.Error.Status, r.Context.Error.Message = 400, err.Error()
			if err := enc.Encode(r); err != nil {
				return bad, err
			}
			continue
		}
		if err := enc.Encode(access.Answer("", f.Decide(e, now))); err != nil {
			return bad, err
		}
	}
	if err := lines.Err(); err != nil {
		return bad, fmt.Errorf("%s: %w", path, err)
	}
	return bad, nil
}
