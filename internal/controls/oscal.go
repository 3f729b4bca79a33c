package controls

import (
	"bytes"
	"encoding/base64"
	"fmt"

	"github.com/google/uuid"

	"ironledger.example/core/account"
	"ironledger.example/core/value"
)

// OSCAL assessment results, as far as they are written (NIST OSCAL 1.1.2, assessment-results).
type (
	oscalResults struct {
		Results oscalBody `json:"assessment-results"`
	}
	oscalBody struct {
		UUID     string        `json:"uuid"`
		Metadata oscalMetadata `json:"metadata"`
		Import   oscalLink     `json:"import-ap"`
		Results  []oscalResult `json:"results"`
		Back     oscalBack     `json:"back-matter"`
	}
	oscalMetadata struct {
		Title    string      `json:"title"`
		Modified string      `json:"last-modified"`
		Version  string      `json:"version"`
		OSCAL    string      `json:"oscal-version"`
		Props    []oscalProp `json:"props"`
	}
	oscalProp struct {
		Name  string `json:"name"`
		NS    string `json:"ns"`
		Value string `json:"value"`
	}
	oscalLink struct {
		Href string `json:"href"`
	}
	oscalResult struct {
		UUID         string             `json:"uuid"`
		Title        string             `json:"title"`
		Description  string             `json:"description"`
		Start        string             `json:"start"`
		End          string             `json:"end"`
		Reviewed     oscalReviewed      `json:"reviewed-controls"`
		Observations []oscalObservation `json:"observations,omitempty"`
		Findings     []oscalFinding     `json:"findings,omitempty"`
	}
	oscalReviewed struct {
		Selections []oscalSelection `json:"control-selections"`
	}
	oscalSelection struct {
		Include []oscalControl `json:"include-controls,omitempty"`
		All     *struct{}      `json:"include-all,omitempty"`
	}
	oscalControl struct {
		ID string `json:"control-id"`
	}
	oscalObservation struct {
		UUID        string      `json:"uuid"`
		Title       string      `json:"title"`
		Description string      `json:"description"`
		Props       []oscalProp `json:"props,omitempty"`
		Methods     []string    `json:"methods"`
		Collected   string      `json:"collected"`
	}
	oscalFinding struct {
		UUID        string         `json:"uuid"`
		Title       string         `json:"title"`
		Description string         `json:"description"`
		Target      oscalTarget    `json:"target"`
		Related     []oscalRelated `json:"related-observations"`
	}
	oscalTarget struct {
		Type   string      `json:"type"`
		ID     string      `json:"target-id"`
		Status oscalStatus `json:"status"`
	}
	oscalStatus struct {
		State  string `json:"state"`
		Reason string `json:"reason"`
	}
	oscalRelated struct {
		UUID string `json:"observation-uuid"`
	}
	oscalBack struct {
		Resources []oscalResource `json:"resources"`
	}
	oscalResource struct {
		UUID        string       `json:"uuid"`
		Title       string       `json:"title"`
		Description string       `json:"description,omitempty"`
		Base64      *oscalBase64 `json:"base64,omitempty"`
	}
	oscalBase64 struct {
		Filename string `json:"filename"`
		Type     string `json:"media-type"`
		Value    string `json:"value"`
	}
)

const (
	// oscalNS names our own properties, and is the space of our identifiers (RFC 9562, section 5.5).
	oscalNS = "https://ironledger.example/ns/oscal"
	// oscalReport comes before the whole report in its resource.
	oscalReport = `"filename":"report.json","media-type":"application/json","value":"`
	notePlace   = "@note@"
)

// writeOSCAL writes a report as assessment results. Identifiers are made of what they name, so that the same report has
// the same.
func writeOSCAL(r *account.Report) (before, after []byte, err error) {
	space := uuid.NewSHA1(uuid.NameSpaceURL, []byte(oscalNS))
	name := func(parts ...any) string {
		return uuid.NewSHA1(space, []byte(r.Digest()+fmt.Sprint(parts...))).String()
	}
	result := oscalResult{UUID: name("result"), Title: "Controls that rules and gates serve",
		Description: fmt.Sprintf("%d known devices, worked out from the first %d entries of the ledger %s", r.Devices,
			r.Ledger.Size, r.Ledger.Origin), Start: r.From, End: r.To}
	if r.From == "" {
		result.Start = r.To
	}
	selection := oscalSelection{}
	for i := range r.Controls {
		c := &r.Controls[i]
		selection.Include = append(selection.Include, oscalControl{c.ID})
		seen := oscalObservation{UUID: name("observation ", c.ID), Title: c.Title,
			Description: orNothing(served(c)), Methods: []string{"TEST"}, Collected: r.To, Props: oscalProps(c)}
		result.Observations = append(result.Observations, seen)
		result.Findings = append(result.Findings, oscalFinding{UUID: name("finding ", c.ID), Title: c.Title,
			Description: c.State, Target: oscalTargetOf(c), Related: []oscalRelated{{seen.UUID}}})
	}
	if len(selection.Include) == 0 {
		selection.All = &struct{}{}
	}
	result.Reviewed.Selections = []oscalSelection{selection}
	title := "Report on controls of " + r.Rulebook
	raw := value.JSON(oscalResults{oscalBody{UUID: name("document"),
		Metadata: oscalMetadata{Title: title, Modified: r.To, Version: r.To, OSCAL: "1.1.2",
			Props: []oscalProp{{"ledger-size", oscalNS, fmt.Sprint(r.Ledger.Size)},
				{"ledger-root", oscalNS, r.Ledger.Root}, {"report-sha256", oscalNS, r.Digest()}}},
		Import: oscalLink{"#" + name("plan")}, Results: []oscalResult{result},
		Back: oscalBack{[]oscalResource{
			{UUID: name("plan"), Title: "The rulebook in place of an assessment plan",
				Description: fmt.Sprintf("What serves which control is said by the rulebook %s, in force at the end in version %d.",
					r.Rulebook, r.Version)},
			{UUID: name("report"), Title: "The whole report", Base64: &oscalBase64{"report.json", "application/json",
				base64.StdEncoding.EncodeToString(r.JSON())}},
			{UUID: name("note"), Title: "The signed note of this file (C2SP signed-note)",
				Base64: &oscalBase64{"note.txt", "text/plain", notePlace}}}}}})
	at := bytes.LastIndex(raw, []byte(notePlace)) // what people wrote stands before it
	return raw[:at], append(bytes.Clone(raw[at+len(notePlace):]), '\n'), nil
}

func orNothing(served string) string {
	if served == "" {
		return "nothing serves it"
	}
	return served
}

func oscalTargetOf(c *account.Told) oscalTarget {
	t := oscalTarget{Type: "statement-id", ID: c.Statement, Status: oscalStatus{"not-satisfied", "other"}}
	if t.ID == "" {
		t.ID = c.ID + "_smt"
	}
	switch {
	case c.State == account.Met, c.State == account.InForce:
		t.Status = oscalStatus{"satisfied", "pass"}
	case c.AtEnd.NotMet > 0:
		t.Status.Reason = "fail"
	}
	return t
}

func oscalProps(c *account.Told) []oscalProp {
	out := []oscalProp{{"devices-met", oscalNS, fmt.Sprint(c.AtEnd.Met)},
		{"devices-not-met", oscalNS, fmt.Sprint(c.AtEnd.NotMet)},
		{"devices-unknown", oscalNS, fmt.Sprint(c.AtEnd.Unknown)},
		{"devices-excepted", oscalNS, fmt.Sprint(c.AtEnd.Excepted)}}
	if c.Share != nil {
		out = append(out, oscalProp{"device-hours-met-percent", oscalNS, Share(c.Share)})
	}
	return out
}
