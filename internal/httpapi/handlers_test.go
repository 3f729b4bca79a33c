package httpapi

import (
	"context"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"net/url"
	"slices"
	"strings"
	"testing"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/core/evidence"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/service"
)

// house is a service behind a handler, with a device and a person, and a token of
// every role.
type house struct {
	handler http.Handler
	service *service.Service
	tokens  map[bearer.Role]string
}

func openHouse(t *testing.T) *house {
	t.Helper()
	quiet := slog.New(slog.DiscardHandler)
	s, err := service.Open(t.Context(), service.Options{Dir: t.TempDir(), AdminToken: adminToken, Log: quiet})
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	})
	h := &house{Handler(Options{Service: s, Log: quiet, Public: "http://127.0.0.1:8600"}), s,
		map[bearer.Role]string{bearer.Admin: adminToken}}
	for _, role := range []bearer.Role{bearer.Reader, bearer.Helpdesk, bearer.Author, bearer.Enforcer, bearer.Source} {
		_, secret, err := s.Admin.CreateToken(t.Context(), "first-admin", "t-"+string(role), role, "")
		if err != nil {
			t.Fatal(err)
		}
		h.tokens[role] = secret
	}
	text := "rulebook: r\nbreak_glass: [master]\nresources: [{id: till}]\n" +
		"baselines: [{id: b, rules: [{id: disk, check: storage.encrypted, cap: limited}]}]\n" +
		"gates: [{id: g, number: 1, who: {everyone: true}, what: {resources: [till]}, need: level >= sound}]\n"
	if _, _, err := s.Admin.Publish(t.Context(), "a", api.Draft{
		Files: []rulebook.File{{Name: "r.yaml", Text: text}}}); err != nil {
		t.Fatal(err)
	}
	if _, err := s.Intake.Ingest(t.Context(), "agent", "", strings.NewReader(
		`{"identity":{"id":"d1","serial":"S-1"},"evidence":{"storage.encrypted":true,"name":"=1+1"}}`),
		evidence.JSON); err != nil {
		t.Fatal(err)
	}
	return h
}

// call asks as somebody; "" for nobody.
func (h *house) call(method, path, token, body string) *httptest.ResponseRecorder {
	ctx, left := context.WithCancel(context.Background())
	defer left() // as a caller who has the answer
	r := httptest.NewRequestWithContext(ctx, method, path, strings.NewReader(body))
	if token != "" {
		r.Header.Set("Authorization", "Bearer "+token)
	}
	if body != "" {
		r.Header.Set("Content-Type", "application/json")
	}
	w := httptest.NewRecorder()
	h.handler.ServeHTTP(w, r)
	return w
}

// Of every operation those roles get past the door that have its right, and no others.
func TestWhoMayDoWhat(t *testing.T) {
	h := openHouse(t)
	tried := 0
	for name, operation := range api.Operations {
		method, path, _ := strings.Cut(name, " ")
		if path == "/api/v1/changes" || path == "/api/v1/session" { // a stream, and the console's cookie
			continue
		}
		path = strings.NewReplacer(":id", "nothing", ":seq", "999999", ":version", "999", ":name", "nothing").Replace(path)
		if w := h.call(method, path, "", "{}"); (w.Code == http.StatusUnauthorized) != (operation.Right != "none") {
			t.Errorf("%s without a token is answered %d", name, w.Code)
		}
		if w := h.call(method, path, "il_nobody_has_this_token_at_all", "{}"); operation.Right != "none" &&
			w.Code != http.StatusUnauthorized {
			t.Errorf("%s with a token that is none is answered %d", name, w.Code)
		}
		for role, token := range h.tokens {
			may := operation.Right == "any" || operation.Right == "none" || role.May(bearer.Permission(operation.Right))
			w := h.call(method, path, token, "{}")
			if refused := w.Code == http.StatusForbidden; refused == may {
				t.Errorf("%s: a %s is answered %d, and may: %v", name, role, w.Code, may)
			}
			if w.Code >= 500 {
				t.Errorf("%s: a %s is answered %d: %s", name, role, w.Code, w.Body)
			}
			tried++
		}
	}
	if tried < 300 {
		t.Fatalf("only %d were tried", tried)
	}
}

// What is wrong with a parameter or a body is told with the place where it stands.
func TestWhatIsWrongIsPointedAt(t *testing.T) {
	h := openHouse(t)
	for _, c := range []struct {
		method, path, body string
		status             int
		pointer, says      string
	}{
		{"GET", "/api/v1/devices?limit=0", "", 400, "limit", "1"},
		{"GET", "/api/v1/devices?limit=x", "", 400, "", "limit"},
		{"GET", "/api/v1/devices?cursor=x", "", 400, "cursor", "this is not a cursor"},
		{"GET", "/api/v1/devices?sort=weight", "", 400, "sort", `"weight" is not a column`},
		{"GET", "/api/v1/devices?where=levl+%3C+sound", "", 400, "where", "did you mean level?"},
		{"GET", "/api/v1/devices?columns=os.versoin", "", 400, "columns", "did you mean os.version?"},
		{"GET", "/api/v1/devices?format=xml", "", 400, "format", "csv"},
		{"GET", "/api/v1/coverage?format=xml", "", 400, "format", "csv"},
		{"GET", "/api/v1/certificates?state=lost", "", 400, "state", "a state is one of"},
		{"GET", "/api/v1/waivers?within=soon", "", 400, "within", ""},
		{"GET", "/api/v1/waivers?state=asleep", "", 400, "state", "there are asked, live, ended and revoked"},
		{"GET", "/api/v1/enrolments?state=asleep", "", 400, "state", "held, enrolled or refused"},
		{"GET", "/api/v1/overview?within=-3d", "", 400, "within", ""},
		{"GET", "/api/v1/decisions?since=yesterday", "", 400, "since", ""},
		{"GET", "/api/v1/decisions?cursor=x", "", 400, "cursor", ""},
		{"GET", "/api/v1/decision-counts?days=0", "", 400, "days", "between 1 and"},
		{"GET", "/api/v1/ledger/entries?until=yesterday", "", 400, "until", ""},
		{"GET", "/api/v1/ledger/entries/999999", "", 404, "", "there is no entry 999999"},
		{"GET", "/api/v1/ledger/consistency?from=999999", "", 400, "from", "the ledger has"},
		{"GET", "/api/v1/devices/d9", "", 404, "", ""},
		{"GET", "/api/v1/devices/d1/past?at=2001-01-01T00:00:00Z", "", 400, "/at", "was first seen at"},
		{"GET", "/api/v1/devices/d1/history?cursor=x", "", 400, "cursor", ""},
		{"GET", "/api/v1/rulebooks/99", "", 404, "", ""},
		{"GET", "/api/v1/rulebooks/none", "", 400, "", ""},
		{"POST", "/api/v1/waivers", `{`, 400, "", ""},
		{"POST", "/api/v1/waivers", `{"device":"d1","rule":"b/disk","reason":"x","for":"3d"} {}`, 400, "", ""},
		{"POST", "/api/v1/waivers", `{"devise":"d1"}`, 400, "", "devise"},
		{"POST", "/api/v1/waivers", `{"device":"d1","rule":"b/dsik","reason":"x","for":"3d"}`, 400, "/rule",
			"did you mean b/disk?"},
		{"POST", "/api/v1/waivers", `{"device":"d1","rule":"b/disk","reason":" ","for":"3d"}`, 400, "/reason",
			"a reason is needed"},
		{"POST", "/api/v1/waivers", `{"device":"d1","rule":"b/disk","reason":"x"}`, 400, "/until", "say when it ends"},
		{"POST", "/api/v1/waivers", `{"device":"d9","rule":"b/disk","reason":"x","for":"3d"}`, 404, "",
			"there is no device d9"},
		{"POST", "/api/v1/vouches", `{"device":"d1","rule":"b/disk","reason":"x","for":"3d"}`, 400, "/rule",
			"not for a rule"},
		{"POST", "/api/v1/tokens", `{"name":"x","role":"king"}`, 400, "/role", `"king" is not a role`},
		{"POST", "/api/v1/tokens", `{"name":"","role":"reader"}`, 400, "/name", "needs a name"},
		{"POST", "/api/v1/tokens", `{"name":"clock","role":"reader"}`, 400, "/name", "no token may be called"},
		{"DELETE", "/api/v1/tokens/first-admin", "", 400, "", "the last administrator's token"},
		{"POST", "/api/v1/evidence", `{"identity":{}}`, 400, "", ""},
		{"POST", "/api/v1/enrolments", `{"platform":"linux"}`, 400, "/serial", "needs a serial"},
		{"POST", "/access/v1/evaluation", `{"subject":{"type":"user"}}`, 400, "", ""},
		{"POST", "/access/v1/evaluation", `[]`, 400, "", ""},
		{"GET", "/api/v1/nothing", "", 404, "", ""},
		{"PUT", "/api/v1/devices", "", 405, "", "is not a method of"},
	} {
		w := h.call(c.method, c.path, adminToken, c.body)
		var p struct {
			Status          int
			Detail, Pointer string
		}
		if err := json.Unmarshal(w.Body.Bytes(), &p); err != nil || w.Code != c.status || p.Status != c.status ||
			c.pointer != "" && p.Pointer != c.pointer || !strings.Contains(p.Detail, c.says) || p.Detail == "" {
			t.Errorf("%s %s %s: %d %s; want %d at %q: %q", c.method, c.path, c.body, w.Code, w.Body, c.status,
				c.pointer, c.says)
		}
		if kind := w.Header().Get("Content-Type"); !strings.HasPrefix(kind, "application/problem+json") {
			t.Errorf("%s %s is answered as %s", c.method, c.path, kind)
		}
	}
}

// What a device calls itself is no formula in a spreadsheet.
func TestExportsHaveNoFormulas(t *testing.T) {
	h := openHouse(t)
	w := h.call("GET", "/api/v1/devices?format=csv", adminToken, "")
	if w.Code != http.StatusOK || !strings.Contains(w.Body.String(), "'=1+1") {
		t.Errorf("%d %s", w.Code, w.Body)
	}
	cover := h.call("GET", "/api/v1/coverage?format=csv", adminToken, "")
	if cover.Body.String() != "group,till\n(no group),sound\n" {
		t.Errorf("the coverage is %q", cover.Body)
	}
}

// A batch is answered question by question: one that is malformed is refused by
// itself, and what the semantics stop is not asked.
func TestABatchOfEvaluations(t *testing.T) {
	h := openHouse(t)
	good := `{"subject":{"type":"user","id":"master"},"action":{"name":"open"},"resource":{"type":"r","id":"till"}}`
	bad := `{"subject":{"type":"user","id":"nobody"},"action":{"name":"open"},"resource":{"type":"r","id":"till"}}`
	for semantic, want := range map[string]string{"execute_all": "true false false true",
		"deny_on_first_deny": "true false", "permit_on_first_permit": "true"} {
		body := fmt.Sprintf(`{"options":{"evaluations_semantic":%q},"evaluations":[%s,%s,{"subject":{}},%s]}`, semantic,
			good, bad, good)
		w := h.call("POST", "/access/v1/evaluations", adminToken, body)
		var got struct{ Evaluations []struct{ Decision bool } }
		if err := json.Unmarshal(w.Body.Bytes(), &got); err != nil || w.Code != http.StatusOK {
			t.Fatalf("%s: %d %s", semantic, w.Code, w.Body)
		}
		var said []string
		for _, e := range got.Evaluations {
			said = append(said, fmt.Sprint(e.Decision))
		}
		if strings.Join(said, " ") != want {
			t.Errorf("%s is answered %v, not %s", semantic, said, want)
		}
	}
}

// A directory is gone through page by page, each person once.
func TestPeopleArePaged(t *testing.T) {
	h := openHouse(t)
	var people []directory.Person
	for i := range 120 {
		people = append(people, directory.Person{ID: fmt.Sprintf("p%03d@gullholm.example", i), Name: "Paged"})
	}
	if _, err := h.service.Admin.ImportPeople(t.Context(), "a", people, admin.ListImport{}); err != nil {
		t.Fatal(err)
	}
	var got []string
	for cursor, n := "", 0; n < 10; n++ {
		req := httptest.NewRequest(http.MethodGet, "/api/v1/people?q=paged&limit=50&cursor="+url.QueryEscape(cursor), nil)
		req.Header.Set("Authorization", "Bearer "+adminToken)
		rec := httptest.NewRecorder()
		h.handler.ServeHTTP(rec, req)
		var page api.PeoplePage
		if err := json.Unmarshal(rec.Body.Bytes(), &page); err != nil || page.Total != 120 || page.Items == nil {
			t.Fatal(rec.Body.String(), err)
		}
		for _, x := range page.Items {
			got = append(got, x.ID)
		}
		if cursor = page.Next; cursor == "" {
			break
		}
	}
	if len(got) != 120 || !slices.IsSorted(got) || len(slices.Compact(got)) != 120 {
		t.Errorf("%d people were shown: %v", len(got), got)
	}
}
