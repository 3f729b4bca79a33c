package decision_test

import (
	"context"
	"log/slog"
	"strings"
	"testing"

	"ironledger.example/api"
	"ironledger.example/core/access"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/service"
)

// A code that another refusal has is not given again, and the refusal stands.
func TestACodeIsGivenOnce(t *testing.T) {
	ctx := context.Background()
	s, err := service.Open(ctx, service.Options{Dir: t.TempDir(), AdminToken: "il_a_token_for_tests_only",
		Log: slog.New(slog.DiscardHandler)})
	if err != nil {
		t.Fatal(err)
	}
	defer func() {
		if err := s.Close(); err != nil {
			t.Error(err)
		}
	}()
	text := "rulebook: r\nresources: [{id: till}]\nbreak_glass: [master]\ngates: [{id: g, number: 1, who: {everyone: true}, what: {resources: [till]}, need: level >= sound}]\n"
	if _, _, err := s.Admin.Publish(ctx, "author",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: text}}}); err != nil {
		t.Fatal(err)
	}
	codes := strings.Fields("AAAA-2222 AAAA-2222 AAAA-2222 BBBB-3333")
	s.Decisions.MakeCodes(func() string {
		c := codes[0]
		if len(codes) > 1 {
			codes = codes[1:]
		}
		return c
	})
	ask := func() (string, error) {
		_, refused, err := s.Decisions.Permit("edge",
			&access.Evaluation{Subject: access.Entity{Type: "user", ID: "maren"},
				Action: access.Action{Name: "open"}, Resource: access.Entity{Type: "r", ID: "till"}})
		if err != nil || refused == nil {
			return "", err
		}
		return refused.Code, nil
	}
	for _, want := range []string{"AAAA-2222", "BBBB-3333"} {
		if got, err := ask(); err != nil || got != want {
			t.Errorf("the code is %q (%v), want %s", got, err, want)
		}
	}
	if got, err := ask(); err == nil {
		t.Errorf("with no code left the answer has %q, and is not on record", got)
	}
}
