package service

import (
	"context"
	"strings"
	"testing"

	"ironledger.example/api"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/stream"
)

// kindsOf are the kinds of alerts, "*" behind those that somebody has seen.
func kindsOf(t *testing.T, s *Service) string {
	t.Helper()
	list, err := s.Alerts.List()
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, a := range list.Items {
		if a.Kind == "disk" { // of the machine that the test runs on
			continue
		}
		if a.SeenBy != "" {
			a.Kind += "*"
		}
		out = append(out, a.Kind)
	}
	return strings.Join(out, " ")
}

// An alert is there as long as its cause, and seen until there is more of it.
func TestAlertsComeAndGo(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := opened(t, t.TempDir(), nil)
	defer s.Close()
	quiet := strings.Replace(noticed, "notices:\n", "enrolment: {allow: on_roster, otherwise: hold}\nnotices:\n", 1)
	if _, _, err := s.Admin.Publish(ctx, "author",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: quiet}}}); err != nil {
		t.Fatal(err)
	}
	a := &acts{s: s}
	take := func(text string) {
		t.Helper()
		if err := a.take(ctx, text); err != nil {
			t.Fatal(err)
		}
	}
	take(`{"source":"desk","identity":{"id":"d1","serial":"S1"},"evidence":{"storage.encrypted":true}}`)
	eventually(t, "the sensor is missed", func() bool { return kindsOf(t, s) == "source" })
	list, err := s.Alerts.List()
	if err != nil || list.Unseen != 1 || !strings.Contains(list.Items[0].Title, "buoy was never heard") {
		t.Fatalf("%+v, %v", list, err)
	}
	if list, err = s.Alerts.See(ctx, "ada", api.AlertSeenDraft{IDs: []string{list.Items[0].ID},
		Note: "ticket 812"}); err != nil ||
		list.Unseen != 0 || list.Items[0].SeenBy != "ada" || list.Items[0].Note != "ticket 812" {
		t.Fatalf("%+v, %v", list, err)
	}
	if _, err := s.Alerts.See(ctx, "ada", api.AlertSeenDraft{IDs: []string{"nonsense"}}); err == nil {
		t.Error("what is not there is seen")
	}
	take(`{"source":"buoy","identity":{"id":"d1"},"evidence":{"threat.score":1}}`)
	eventually(t, "the sensor is heard", func() bool { return kindsOf(t, s) == "" })
	// A report that finds its device by a serial that two machines have.
	take(`{"source":"desk","external_id":"x","identity":{"serial":"S1"},"evidence":{"name":"a"}}`)
	take(`{"source":"desk","external_id":"y","identity":{"serial":"S1"},"evidence":{"name":"b"}}`)
	eventually(t, "a report waits", func() bool { return kindsOf(t, s) == "unmatched" })
	if _, err := s.Alerts.See(ctx, "ada", api.AlertSeenDraft{}); err != nil || kindsOf(t, s) != "unmatched*" {
		t.Errorf("%s, %v", kindsOf(t, s), err)
	}
	take(`{"source":"desk","external_id":"z","identity":{"serial":"S1"},"evidence":{"name":"c"}}`)
	eventually(t, "one more is new", func() bool { return kindsOf(t, s) == "unmatched" })
	// A receiver that the rulebook names no more.
	s.Streams.Start(stream.Options{Issuer: "https://posture.gullholm.example"})
	if _, err := s.Streams.Create(ctx, "ada", api.StreamDraft{Receiver: "chat",
		Endpoint: "https://chat.gullholm.example/x"}); err != nil {
		t.Fatal(err)
	}
	gone := strings.Replace(strings.Replace(quiet, "{id: chat, form: cloudevents}", "{id: other}", 1),
		"  - {id: hook, on: fell, to: {hook: chat}}\n", "", 1)
	if _, _, err := s.Admin.Publish(ctx, "author",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: gone}}}); err != nil {
		t.Fatal(err)
	}
	eventually(t, "the stream cannot be told", func() bool { return strings.Contains(kindsOf(t, s), "stream") })
}
