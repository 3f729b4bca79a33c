package httpapi

import (
	"fmt"
	"maps"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"testing"

	"github.com/getkin/kin-openapi/openapi3"
	"github.com/gin-gonic/gin"

	"ironledger.example/api"
	"ironledger.example/core/value"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/httpapi/edge"
)

// Every operation of the specification must have a permission, and every
// permission an operation: a new one is refused until somebody thought of it.
func TestEveryOperationHasAPermission(t *testing.T) {
	doc, err := openapi3.NewLoader().LoadFromData(api.Spec)
	if err != nil {
		t.Fatal(err)
	}
	told := map[string]bool{}
	for path, item := range doc.Paths.Map() {
		path = strings.NewReplacer("{", ":", "}", "").Replace(path)
		for method, op := range item.Operations() {
			key := method + " " + path
			told[key] = true
			need, ok := permissions[key]
			if !ok {
				t.Errorf("%s has no permission: run make generate", key)
			}
			made := api.Operations[key]
			if told := (api.Operation{Right: fmt.Sprint(op.Extensions["x-right"]),
				Computes: op.Extensions["x-computes"] == true, Long: op.Extensions["x-long"] == true}); told != made {
				t.Errorf("%s is %+v, and the specification says %+v: run make generate", key, made, told)
			}
			if need != anyone && need != nobody && !bearer.Admin.May(need) && !bearer.Receiver.May(need) {
				t.Errorf("%s asks for %q, which is no right of any role", key, need)
			}
			if open := op.Security != nil && len(*op.Security) == 0; open != (need == nobody) {
				t.Errorf("%s: the specification says open is %v, the permission is %q", key, open, need)
			}
		}
	}
	for key := range permissions {
		if !told[key] {
			t.Errorf("the permission of %s is of no operation", key)
		}
	}
}

func TestTextsInTheCallersLanguage(t *testing.T) {
	texts := map[string]string{"en": "Update", "sv": "Uppdatera", "pt-BR": "Atualizar"}
	cases := []struct {
		accept string
		texts  map[string]string
		want   string
	}{
		{"", texts, "en pt-BR sv"}, {"sv", texts, "sv"}, {"sv-FI, en;q=0.1", texts, "sv"},
		{"pt", texts, "pt-BR"}, {"ja", texts, "en"}, {"ja, sv;q=0.2", texts, "sv"}, {"en-AU", texts, "en"},
		{"sv", map[string]string{"en": "One"}, "en"}, {"en", nil, ""},
		{"fi", map[string]string{"sv": "a", "nb": "b"}, ""},
		{strings.Repeat("x", 9000), texts, "en pt-BR sv"}, {"sv;q=0, en", texts, "en"},
	}
	for _, c := range cases {
		ctx, _ := gin.CreateTestContext(httptest.NewRecorder())
		ctx.Request = httptest.NewRequest(http.MethodGet, "/", nil)
		ctx.Request.Header.Set("Accept-Language", c.accept)
		got := edge.InLanguage(ctx, c.texts)
		keys := strings.Join(slices.Sorted(maps.Keys(got)), " ")
		if keys != c.want && (c.want != "" || len(got) > 1) {
			t.Errorf("to %.40q of %v is told %q, want %q", c.accept, slices.Sorted(maps.Keys(c.texts)), keys,
				c.want)
		}
	}
	if len(texts) != 3 {
		t.Error("the rulebook's own texts were changed")
	}
}

func TestACellIsNoFormula(t *testing.T) {
	for cell, want := range map[string]string{"": "", "laptop": "laptop", "=1+1": "'=1+1", "+46": "'+46",
		"-3": "'-3", "@x": "'@x", "\tx": "'\tx", "a=b": "a=b"} {
		if got := value.Cell(cell); got != want {
			t.Errorf("%q is written as %q, want %q", cell, got, want)
		}
	}
}

func TestProblemsOfEachKind(t *testing.T) {
	for _, c := range []struct {
		err    error
		status int
	}{
		{edge.NewProblem(418, "x"), 418}, {fmt.Errorf("around: %w", edge.NewProblem(409, "x")), 409},
		{fmt.Errorf("a bug"), 500}, {&http.MaxBytesError{Limit: 7}, 413},
	} {
		if p := edge.ProblemOf(c.err); p.Status != c.status || p.Detail == "" {
			t.Errorf("%v becomes %+v", c.err, p)
		}
	}
}
