package e2e

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/cookiejar"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/getkin/kin-openapi/openapi3filter"
	"github.com/getkin/kin-openapi/routers/gorillamux"

	"ironledger.example/api"
)

type problem struct {
	Status                          int
	Title, Detail, Pointer, Excerpt string
	Problems                        []struct{ Message string }
}

const evaluation = `{"subject":{"type":"user","id":"maren.holt@gullholm.example"},"action":{"name":"open"},"resource":{"type":"app","id":"payroll"},"context":{"device":{"id":"GF-L-1042"},"ip":"10.20.4.7"}}`

func TestBadInputIsAProblemNeverA500(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	big := strings.Repeat("x", 2<<20)
	for _, c := range []struct {
		name, method, path, media, body string
		status                          int
		says                            string // in the detail, the pointer or the excerpt
	}{
		{"unknown path", "GET", "/api/v1/nothing", "", "", 404, "there is nothing at"},
		{"unknown method", "PUT", "/api/v1/devices", "", "", 405, "PUT is not a method of"},
		{"unknown device", "GET", "/api/v1/devices/ghost", "", "", 404, "ghost"},
		{"a condition that is none", "GET", "/api/v1/devices?where=level%20%3E", "", "", 400,
			"the condition ends where"},
		{"a huge condition", "GET", "/api/v1/devices?where=" + strings.Repeat("(", 5000), "", "", 400,
			"nested more than 100 deep"},
		{"a bad sort", "GET", "/api/v1/devices?sort=colour", "", "", 400, "is not a column"},
		{"a bad cursor", "GET", "/api/v1/devices?cursor=zzz", "", "", 400, "not a cursor"},
		{"a bad limit", "GET", "/api/v1/devices?limit=0", "", "", 400, "1 to 1000"},
		{"a limit in words", "GET", "/api/v1/decisions?limit=many", "", "", 400, "limit"},
		{"a bad cursor of decisions", "GET", "/api/v1/decisions?cursor=-1", "", "", 400, "not a cursor"},
		{"evidence of no known type", "POST", "/api/v1/evidence", "text/plain", "x", 415,
			"the body must be application/json"},
		{"evidence without a type", "POST", "/api/v1/evidence", "", "x", 415, ""},
		{"evidence that is not JSON", "POST", "/api/v1/evidence", "application/json", "{", 400, "not valid JSON"},
		{"evidence about nothing", "POST", "/api/v1/evidence", "application/json", "{}", 400,
			"does not say which device"},
		{"evidence from the future", "POST", "/api/v1/evidence", "application/json",
			`{"identity":{"id":"a"},"observed_at":"2099-01-01T00:00:00Z"}`, 400, "in the future"},
		{"evidence from the year 9999", "POST", "/api/v1/evidence", "application/json",
			`{"identity":{"id":"a"},"observed_at":"9999-12-31T23:59:59Z"}`, 400, "in the future"},
		{"one report too large", "POST", "/api/v1/evidence", "application/json",
			`{"identity":{"id":"` + big + `"}}`, 400, "larger than"},
		{"a CSV with a broken header", "POST", "/api/v1/evidence", "text/csv", "id,id\n", 400, "stands twice"},
		{"a question that is not JSON", "POST", "/access/v1/evaluation", "application/json", "nonsense", 400,
			"not valid JSON"},
		{"a question of another type", "POST", "/access/v1/evaluation", "text/plain", evaluation, 415,
			"application/json"},
		{"a question without a subject", "POST", "/access/v1/evaluation", "application/json",
			strings.Replace(evaluation, `"subject"`, `"object"`, 1), 400, "/subject/type"},
		{"a question with a subject of numbers", "POST", "/access/v1/evaluation", "application/json",
			strings.Replace(evaluation, `"user"`, `7`, 1), 400, "/subject/type"},
		{"a question from nowhere", "POST", "/access/v1/evaluation", "application/json",
			strings.Replace(evaluation, `10.20.4.7`, `10.20`, 1), 400, "/context/ip"},
		{"a question that names its resource twice", "POST", "/access/v1/evaluation", "application/json",
			`{"subject":{"type":"user","id":"maren"},"action":{"name":"open"},"resource":{"type":"app","id":"noticeboard"},"resource":{"type":"app","id":"vault"}}`, 400, "stands twice"},
		{"questions that name their resource twice", "POST", "/access/v1/evaluations", "application/json",
			`{"subject":{"type":"user","id":"maren"},"action":{"name":"open"},"resource":{"type":"app","id":"noticeboard"},"resource":{"type":"app","id":"vault"}}`, 400, "stands twice"},
		{"a question too large", "POST", "/access/v1/evaluation", "application/json",
			`{"subject":"` + big + `"}`, 413, "larger than"},
		{"a rulebook without files", "POST", "/api/v1/rulebooks", "application/json", `{"files":[]}`, 400,
			"/files"},
		{"a rulebook with an unknown member", "POST", "/api/v1/rulebooks", "application/json", `{"file":[]}`,
			400, "unknown field"},
		{"a rulebook that is wrong", "POST", "/api/v1/rulebooks", "application/json",
			`{"files":[{"name":"a.yaml","text":"ladder: 3"}]}`, 422, "the one in force stays"},
		{"a rulebook from an outdated base", "POST", "/api/v1/rulebooks", "application/json",
			`{"files":[{"name":"a.yaml","text":"rulebook: x"}],"base":7}`, 409, "not 7"},
		{"a version that is none", "GET", "/api/v1/rulebooks/first", "", "", 400, "write a number or current"},
		{"a version that is not there", "GET", "/api/v1/rulebooks/99", "", "", 404, ""},
		{"people with a wrong column", "POST", "/api/v1/people", "text/csv", "id,colour\n", 400,
			`column 2 is "colour"`},
		{"people that are no list", "POST", "/api/v1/people", "application/json", `{"id":"x"}`, 400,
			"not a list of people"},
		{"a decision that is not there", "GET", "/api/v1/decisions/none", "", "", 404, ""},
		{"a token of no role", "POST", "/api/v1/tokens", "application/json", `{"name":"x","role":"king"}`,
			400, "is not a role"},
		{"a console file that is not there", "GET", "/assets/none.js", "", "", 404, ""},
	} {
		t.Run(c.name, func(t *testing.T) {
			r := s.call(t, c.method, c.path, adminToken, c.media, c.body)
			var p problem
			r.into(t, c.status, &p)
			if r.header.Get("Content-Type") != "application/problem+json" || p.Status != c.status ||
				p.Title == "" || !strings.Contains(p.Detail+p.Pointer+p.Excerpt, c.says) {
				t.Errorf("the problem is %s: %s, want %q", r.header.Get("Content-Type"), r.body, c.says)
			}
		})
	}
	var status struct{ Decisions, Devices int }
	s.call(t, "GET", "/api/v1/status", adminToken, "", "").into(t, 200, &status)
	if status.Decisions != 190 || status.Devices != 71 {
		t.Errorf("bad input left %d decisions and %d devices behind", status.Decisions, status.Devices)
	}
}

func TestWhoMayDoWhat(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	tokens := map[string]string{"admin": adminToken, "nobody": "", "wrong": "il_wrong"}
	for _, role := range []string{"reader", "helpdesk", "author", "enforcer", "source"} {
		var made struct{ Secret string }
		s.call(t, "POST", "/api/v1/tokens", adminToken, "application/json",
			`{"name":"`+role+`","role":"`+role+`"}`).into(t, 201, &made)
		tokens[role] = made.Secret
	}
	for _, c := range []struct {
		method, path, media, body string
		may                       string
	}{
		{"GET", "/api/v1/devices", "", "", "admin reader helpdesk author"},
		{"POST", "/api/v1/ask", "application/json", evaluation, "admin helpdesk author"},
		{"POST", "/access/v1/evaluation", "application/json", evaluation, "admin enforcer"},
		{"POST", "/api/v1/evidence", "application/json", `{"identity":{"id":"z"},"evidence":{}}`, "admin source"},
		{"POST", "/api/v1/rulebooks", "application/json", `{"files":[{"name":"a","text":"x"}]}`, "admin author"},
		{"POST", "/api/v1/people", "text/csv", "id\n", "admin"},
		{"GET", "/api/v1/tokens", "", "", "admin"},
		{"GET", "/api/v1/overview", "", "", "admin reader helpdesk author"},
		{"GET", "/api/v1/devices/GF-L-1041/history", "", "", "admin reader helpdesk author"},
		{"GET", "/api/v1/certificates", "", "", "admin reader helpdesk author"},
		{"POST", "/api/v1/waivers", "application/json", `{}`, "admin helpdesk author"},
		{"POST", "/api/v1/waivers/w/revoke", "application/json", `{"reason":"x"}`, "admin helpdesk author"},
		{"POST", "/api/v1/vouches", "application/json", `{}`, "admin helpdesk author source"},
		{"POST", "/api/v1/vouches/v/revoke", "application/json", `{"reason":"x"}`, "admin helpdesk author"},
		{"POST", "/api/v1/unmatched/u/settle", "application/json", `{"reason":"x","discard":true}`,
			"admin helpdesk author"},
		{"POST", "/api/v1/roster", "text/csv", "serial\n", "admin"},
		{"POST", "/api/v1/searches", "application/json", `{"name":"n"}`, "admin helpdesk author"},
		{"POST", "/api/v1/rulebooks/rehearse", "application/json",
			`{"files":[{"name":"a.yaml","text":"rulebook: x"}]}`, "admin reader helpdesk author"},
		{"GET", "/api/v1/ledger/entries", "", "", "admin reader helpdesk author"},
		{"GET", "/api/v1/ledger/export?to=1", "", "", "admin reader helpdesk author"},
		{"GET", "/ledger/tile/entries/000", "", "", "admin reader helpdesk author"},
		{"POST", "/api/v1/ledger/entries/1/redact", "application/json", `{"reason":""}`, "admin"},
		{"GET", "/ledger/checkpoint", "", "", "admin reader helpdesk author enforcer source nobody wrong"},
		{"GET", "/ledger/tile/0/000", "", "", "admin reader helpdesk author enforcer source nobody wrong"},
		{"GET", "/schema/rulebook.json", "", "", "admin reader helpdesk author enforcer source nobody wrong"},
		{"GET", "/healthz", "", "", "admin reader helpdesk author enforcer source nobody wrong"},
	} {
		for who, secret := range tokens {
			r := s.call(t, c.method, c.path, secret, c.media, c.body)
			want := strings.Contains(" "+c.may+" ", " "+who+" ")
			refused := r.status == 401 || r.status == 403
			if refused == want || (who == "nobody" || who == "wrong") && refused &&
				(r.status != 401 || r.header.Get("WWW-Authenticate") == "") {
				t.Errorf("%s %s by %s is answered %d: %s", c.method, c.path, who, r.status, r.body)
			}
		}
	}
	var out struct {
		Results []struct{ Error, Device string }
	}
	s.call(t, "POST", "/api/v1/evidence", tokens["source"], "application/x-ndjson",
		`{"source":"mdm","identity":{"id":"z"},"evidence":{"managed":true}}`).into(t, 200, &out)
	if !strings.Contains(out.Results[0].Error, "may only report as source, not as mdm") {
		t.Errorf("a source speaks for another: %+v", out)
	}
}

func TestAuthZEN(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	var meta map[string]string
	s.call(t, "GET", "/.well-known/authzen-configuration", "", "", "").into(t, 200, &meta)
	if meta["policy_decision_point"] != s.url ||
		meta["access_evaluation_endpoint"] != s.url+"/access/v1/evaluation" {
		t.Errorf("the metadata is %v", meta)
	}
	var answer struct {
		Decision bool
		Context  struct {
			ID, Outcome, Level string
			ValidUntil         string            `json:"valid_until"`
			ReasonUser         map[string]string `json:"reason_user"`
			ReasonAdmin        map[string]string `json:"reason_admin"`
			Gates              []struct{ Number int }
		}
	}
	r := s.call(t, "POST", "/access/v1/evaluation", adminToken, "application/json", evaluation)
	r.into(t, 200, &answer)
	c := answer.Context
	if !answer.Decision || c.Outcome != "allow" || c.Level != "strong" || len(c.Gates) != 1 ||
		c.Gates[0].Number != 210 || c.ValidUntil == "" || c.ReasonUser["en"] == "" || c.ReasonAdmin["en"] == "" {
		t.Errorf("the answer is %s", r.body)
	}
	if got := r.header.Get("X-Request-ID"); got != "rq-7" {
		t.Errorf("the request id comes back as %q", got)
	}
	var kept struct {
		ID, Outcome, Actor string
		Asked              struct{ Subject struct{ ID string } }
	}
	s.call(t, "GET", "/api/v1/decisions/"+c.ID, adminToken, "", "").into(t, 200, &kept)
	if kept.ID != c.ID || kept.Outcome != "allow" || kept.Actor != "first-admin" ||
		kept.Asked.Subject.ID != "maren.holt@gullholm.example" {
		t.Errorf("the decision is kept as %+v", kept)
	}
}

func TestNothingIsLostInARestart(t *testing.T) {
	t.Parallel()
	dir := t.TempDir()
	s := start(t, "demo", dir)
	before := s.call(t, "GET", "/api/v1/devices?limit=1000", adminToken, "", "").body
	s.stop(t)
	s = start(t, "serve", dir)
	if after := s.call(t, "GET", "/api/v1/devices?limit=1000", adminToken, "", "").body; !bytes.Equal(before,
		after) {
		t.Errorf("the fleet was\n%.600s\nand is\n%.600s", before, after)
	}
	s.run(t, "", "status").want(t, 0, "71 devices, 44 people, 190 decisions recorded", "Rulebook version 2")
	if r := s.call(t, "GET", "/readyz", "", "", ""); r.status != 200 {
		t.Errorf("readyz answers %d", r.status)
	}
}

// browserLike posts as a page of another site, or the console itself, would.
func TestConsoleSessionsAreGuarded(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	jar, err := cookiejar.New(nil)
	if err != nil {
		t.Fatal(err)
	}
	client := &http.Client{Jar: jar}
	send := func(method, path, body, site string) *http.Response {
		t.Helper()
		req, err := http.NewRequest(method, s.url+path, strings.NewReader(body))
		if err != nil {
			t.Fatal(err)
		}
		req.Header.Set("Content-Type", "application/json")
		if site != "" {
			req.Header.Set("Sec-Fetch-Site", site)
		}
		r, err := client.Do(req)
		if err != nil {
			t.Fatal(err)
		}
		r.Body.Close()
		return r
	}
	if r := send("POST", "/api/v1/session", `{"token":"`+adminToken+`"}`, "cross-site"); r.StatusCode != 403 {
		t.Errorf("another site signs people in: %d", r.StatusCode)
	}
	r := send("POST", "/api/v1/session", `{"token":"`+adminToken+`"}`, "same-origin")
	if r.StatusCode != 200 || len(r.Cookies()) != 1 {
		t.Fatalf("signing in is answered %d with %d cookies", r.StatusCode, len(r.Cookies()))
	}
	if c := r.Cookies()[0]; !c.HttpOnly || c.SameSite != http.SameSiteStrictMode ||
		strings.Contains(c.Value, adminToken) {
		t.Errorf("the cookie is %v", c)
	}
	if r := send("POST", "/api/v1/ask", evaluation, "same-origin"); r.StatusCode != 200 {
		t.Errorf("the console's own question is answered %d", r.StatusCode)
	}
	if r := send("POST", "/api/v1/ask", evaluation, "cross-site"); r.StatusCode != 403 {
		t.Errorf("another site asks with the person's session: %d", r.StatusCode)
	}
	page := send("GET", "/devices/GF-L-1042", "", "")
	if csp := page.Header.Get("Content-Security-Policy"); page.StatusCode != 200 ||
		!strings.Contains(csp, "default-src 'self'") || strings.Contains(csp, "unsafe") ||
		page.Header.Get("X-Content-Type-Options") != "nosniff" {
		t.Errorf("the console is served %d with %q", page.StatusCode, csp)
	}
}

// Every answer must be what api/openapi.yaml says.
func TestAnswersKeepTheContract(t *testing.T) {
	t.Parallel()
	doc, err := openapi3.NewLoader().LoadFromData(api.Spec)
	if err != nil {
		t.Fatal(err)
	}
	if err := doc.Validate(context.Background()); err != nil {
		t.Fatal(err)
	}
	s := start(t, "demo", t.TempDir())
	doc.Servers = openapi3.Servers{{URL: s.url}}
	router, err := gorillamux.NewRouter(doc)
	if err != nil {
		t.Fatal(err)
	}
	const candidate = `{"files":[{"name":"a.yaml","text":"rulebook: x\nbaselines: [{id: a, rules: [{id: b, check: managed==true, cap: barred}]}]"}]}`
	decision := lines[struct{ ID string }](t,
		s.run(t, "", "decision", "list", "--limit", "1", "-o", "ndjson").want(t, 0).out)[0].ID
	for _, c := range []struct{ method, path, media, body string }{
		{"GET", "/api/v1/session", "", ""}, {"GET", "/api/v1/status", "", ""},
		{"GET", "/api/v1/vocabulary", "", ""}, {"GET", "/api/v1/devices?limit=100", "", ""},
		{"GET", "/api/v1/devices/GF-K-3104", "", ""}, {"GET", "/api/v1/devices/GF-L-1048", "", ""},
		{"GET", "/api/v1/devices/GF-S-6001", "", ""}, {"GET", "/api/v1/devices/none", "", ""},
		{"GET", "/api/v1/rulebooks", "", ""}, {"GET", "/api/v1/rulebooks/current", "", ""},
		{"GET", "/api/v1/people", "", ""}, {"GET", "/api/v1/decisions?limit=29", "", ""},
		{"GET", "/api/v1/decisions/" + decision, "", ""}, {"GET", "/api/v1/tokens", "", ""},
		{"POST", "/api/v1/tokens", "application/json", `{"name":"n","role":"reader"}`},
		{"DELETE", "/api/v1/tokens/n", "", ""}, {"POST", "/api/v1/ask", "application/json", evaluation},
		{"POST", "/access/v1/evaluation", "application/json", evaluation},
		{"POST", "/api/v1/rulebooks/check", "application/json",
			`{"files":[{"name":"a.yaml","text":"rulebook: x\nlader: 1\nexamples: []"}]}`},
		{"POST", "/api/v1/rulebooks/check", "application/json",
			`{"files":[{"name":"a.yaml","text":"rulebook: x\nexamples: [{device: {}, level: strong}]"}]}`},
		{"POST", "/api/v1/rulebooks", "application/json", `{"files":[{"name":"a.yaml","text":"x: 1"}]}`},
		{"POST", "/api/v1/rulebooks", "application/json", `{"files":[{"name":"a.yaml","text":"rulebook: x"}]}`},
		{"POST", "/api/v1/evidence", "application/json",
			`{"identity":{"id":"n"},"evidence":{"managed":true,"colour":1}}`},
		{"POST", "/api/v1/people", "application/json", `[{"id":"a"},{"id":""}]`},
		{"GET", "/.well-known/authzen-configuration", "", ""},
		{"GET", "/api/v1/people?group=it&limit=2", "", ""},
		{"GET", "/api/v1/people/birk.strand@gullholm.example", "", ""}, {"GET", "/api/v1/people/nobody", "", ""},
		{"POST", "/api/v1/people?whole=true", "application/json", `[{"id":"a"}]`},
		{"POST", "/api/v1/people/edda.brandt@gullholm.example/remove", "application/json", `{"reason":"x"}`},
		{"POST", "/api/v1/people/nobody/remove", "application/json", `{"reason":"x"}`},
		{"GET", "/api/v1/shadow", "", ""}, {"GET", "/api/v1/overview", "", ""},
		{"GET", "/api/v1/overview?within=never", "", ""},
		{"GET", "/api/v1/devices/GF-L-1050/history", "", ""}, {"GET", "/api/v1/devices/GF-L-1051", "", ""},
		{"GET", "/api/v1/devices/GF-T-2101", "", ""},
		{"GET", "/api/v1/devices/GF-L-1054/history?limit=1", "", ""},
		{"GET", "/api/v1/devices/none/history", "", ""}, {"GET", "/api/v1/searches", "", ""},
		{"POST", "/api/v1/searches", "application/json",
			`{"name":"s","where":"managed","columns":["os.build"]}`},
		{"DELETE", "/api/v1/searches/s", "", ""}, {"GET", "/api/v1/certificates", "", ""},
		{"GET", "/api/v1/certificates?state=x", "", ""}, {"GET", "/api/v1/sources", "", ""},
		{"GET", "/api/v1/unmatched?all=true", "", ""},
		{"POST", "/api/v1/unmatched/u/settle", "application/json", `{"reason":"x","discard":true}`},
		{"GET", "/api/v1/waivers", "", ""}, {"GET", "/api/v1/vouches", "", ""},
		{"POST", "/api/v1/waivers", "application/json",
			`{"device":"GF-L-1041","rule":"laptop/firewall","reason":"x","for":"1d"}`},
		{"POST", "/api/v1/waivers", "application/json", `{"device":"GF-L-1041"}`},
		{"POST", "/api/v1/vouches", "application/json",
			`{"device":"GF-L-1041","reason":"x","until":"2099-01-01T00:00:00Z"}`},
		{"POST", "/api/v1/waivers/w-none/revoke", "application/json", `{"reason":"x"}`},
		{"GET", "/api/v1/roster", "", ""}, {"POST", "/api/v1/roster", "text/csv", "serial\nq\n"},
		{"POST", "/api/v1/roster/q/remove", "application/json", `{"reason":"x"}`},
		{"POST", "/api/v1/rulebooks/rehearse", "application/json", candidate},
		{"POST", "/api/v1/rulebooks/rehearse/GF-L-1041", "application/json", candidate},
		{"POST", "/api/v1/rulebooks/compare", "application/json", candidate},
		{"POST", "/api/v1/rulebooks/compare?version=1", "application/json", candidate},
		{"POST", "/api/v1/rulebooks/format", "application/json", candidate},
		{"POST", "/api/v1/rulebooks/check", "application/json", candidate},
		{"POST", "/api/v1/rulebooks/rehearse", "application/json",
			`{"files":[{"name":"a.yaml","text":"x"}]}`}, {"GET", "/api/v1/decisions/" + decision, "", ""},
		{"GET", "/api/v1/ledger", "", ""}, {"POST", "/api/v1/ledger/verification", "", ""},
		{"GET", "/api/v1/ledger/entries?limit=1000", "", ""}, {"GET", "/api/v1/ledger/entries?cursor=x", "", ""},
		{"GET", "/api/v1/ledger/entries/7", "", ""}, {"GET", "/api/v1/ledger/entries/999999", "", ""},
		{"POST", "/api/v1/ledger/entries/9/redact", "application/json", `{"reason":"x"}`},
		{"GET", "/api/v1/ledger/entries/9", "", ""},
		{"GET", "/api/v1/ledger/consistency?from=100", "", ""},
		{"GET", "/api/v1/ledger/consistency?from=999999", "", ""},
		{"GET", "/api/v1/decisions/" + decision + "/replay", "", ""},
		{"GET", "/api/v1/decisions/none/replay", "", ""},
		{"GET", "/api/v1/devices/GF-L-1042/past?at=" +
			time.Now().Add(-30*time.Hour).UTC().Format(time.RFC3339), "", ""},
		{"GET", "/api/v1/devices/GF-L-1042/past?at=2001-01-01T00:00:00Z", "", ""},
		{"GET", "/api/v1/devices/GF-L-1042/past?at=x", "", ""},
		{"GET", "/api/v1/ledger/export?format=x", "", ""}, {"GET", "/api/v1/ledger/export?wait=2h", "", ""},
		{"GET", "/api/v1/ledger/export?from=5&to=2", "", ""},
		{"GET", "/.well-known/ssf-configuration", "", ""}, {"GET", "/ssf/jwks.json", "", ""},
		{"POST", "/api/v1/streams", "application/json", `{"receiver":"quay-gateway"}`},
		{"POST", "/api/v1/streams", "application/json", `{"receiver":"nobody"}`}, {"GET", "/api/v1/streams", "", ""},
		{"GET", "/api/v1/streams/none", "", ""}, {"POST", "/api/v1/streams/none/test", "", ""},
		{"POST", "/api/v1/streams/none/status", "application/json", `{"status":"paused","reason":"x"}`},
		{"POST", "/api/v1/streams/none/remove", "application/json", `{"reason":"x"}`},
		{"POST", "/api/v1/signal-keys", "application/json", `{"reason":"x"}`},
		{"GET", "/ssf/streams", "", ""}, {"POST", "/ssf/streams", "application/json", `{}`},
	} {
		req, err := http.NewRequest(c.method, s.url+c.path, strings.NewReader(c.body))
		if err != nil {
			t.Fatal(err)
		}
		route, params, err := router.FindRoute(req)
		if err != nil {
			t.Fatalf("%s %s: %v", c.method, c.path, err)
		}
		r := s.call(t, c.method, c.path, adminToken, c.media, c.body)
		in := &openapi3filter.ResponseValidationInput{RequestValidationInput: &openapi3filter.RequestValidationInput{Request: req, PathParams: params, Route: route},
			Status: r.status, Header: r.header, Body: io.NopCloser(bytes.NewReader(r.body)),
			Options: &openapi3filter.Options{IncludeResponseStatus: true}}
		if err := openapi3filter.ValidateResponse(context.Background(), in); err != nil {
			t.Errorf("%s %s is answered %d against the specification: %.600v", c.method, c.path, r.status, err)
		}
	}
}

// Lists that grow with the house are there page by page: the same lines in the same order as all at once.
func TestListsGoOnPageByPage(t *testing.T) {
	t.Parallel()
	s := start(t, "demo", t.TempDir())
	for _, resource := range []string{"noticeboard", "crew-rota", "payroll"} {
		asked := strings.Replace(evaluation, "payroll", resource, 1)
		s.call(t, "POST", "/access/v1/evaluation", adminToken, "application/json", asked).into(t, 200, nil)
	}
	type list struct {
		Items  []json.RawMessage
		Total  int
		People int
		Next   string
	}
	for _, c := range []struct {
		method, path, body string
		least              int
	}{
		{"GET", "/api/v1/roster?", "", 20}, {"GET", "/api/v1/roster?q=GF&unseen=true&", "", 1},
		{"GET", "/api/v1/waivers?", "", 3}, {"GET", "/api/v1/vouches?", "", 1}, {"GET", "/api/v1/live-sessions?", "", 1},
		{"POST", "/api/v1/reach/people?", evaluation, 40}, {"POST", "/api/v1/reach/people?through=true&q=a&", evaluation, 1},
	} {
		ask := func(cursor string, limit int) (l list) {
			query := url.Values{"cursor": {cursor}, "limit": {fmt.Sprint(limit)}}.Encode()
			s.call(t, c.method, c.path+query, adminToken, "application/json", c.body).into(t, 200, &l)
			return l
		}
		all, paged := ask("", 0), []json.RawMessage{}
		for cursor := ""; ; {
			page := ask(cursor, 2)
			if len(page.Items) > 2 || page.Total != all.Total || page.People != all.People {
				t.Fatalf("%s: a page of %d lines, of %d and %d", c.path, len(page.Items), page.Total, page.People)
			}
			paged = append(paged, page.Items...)
			if cursor = page.Next; cursor == "" {
				break
			}
		}
		if len(all.Items) < c.least || all.Next != "" || fmt.Sprintf("%s", paged) != fmt.Sprintf("%s", all.Items) {
			t.Errorf("%s: %d lines page by page, %d at once:\n%s\n%s", c.path, len(paged), len(all.Items), paged, all.Items)
		}
	}
	for _, path := range []string{"/api/v1/roster", "/api/v1/people", "/api/v1/waivers", "/api/v1/live-sessions"} {
		s.call(t, "GET", path+"?limit=-1", adminToken, "", "").into(t, 400, nil)
	}
	s.call(t, "POST", "/api/v1/reach/people?cursor=payroll", adminToken, "application/json", evaluation).into(t, 400, nil)
}
