package service

import (
	"context"
	"encoding/json"
	"io"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"testing"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/outbound"
	"ironledger.example/internal/stream"
)

// hooked is a rulebook with a web hook.
const hooked = `rulebook: hooked
break_glass: [master]
signals: {receivers: [{id: chat, form: cloudevents, events: [standing-change]}]}
baselines: [{id: all, rules: [{id: disk, check: storage.encrypted, cap: limited}]}]
`

// hook takes CloudEvents, but for those that it refuses.
type hook struct {
	*httptest.Server
	mu     sync.Mutex
	refuse func(body string) int // the status; 0 for 204
	took   []string
	tries  int
}

func (h *hook) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	body, _ := io.ReadAll(r.Body)
	h.mu.Lock()
	defer h.mu.Unlock()
	h.tries++
	if code := h.refuse(string(body)); code != 0 {
		w.WriteHeader(code)
		return
	}
	h.took = append(h.took, string(body))
	w.WriteHeader(http.StatusNoContent)
}

func (h *hook) refuses(how func(body string) int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	h.refuse = how
}

// counts is how many events it took, one that came twice once, and how often something came.
func (h *hook) counts() (took, tries int) {
	h.mu.Lock()
	defer h.mu.Unlock()
	ids := map[string]bool{}
	for _, body := range h.took {
		var e struct{ ID string }
		_ = json.Unmarshal([]byte(body), &e) // one without an id counts as one
		ids[e.ID] = true
	}
	return len(ids), h.tries
}

func eventually(t *testing.T, what string, holds func() bool) {
	t.Helper()
	for until := time.Now().Add(90 * time.Second); !holds(); time.Sleep(2 * time.Millisecond) {
		if time.Now().After(until) {
			t.Fatalf("%s, in vain", what)
		}
	}
}

// What a web hook refuses again and again is given up, kept over a restart, and sent
// again when somebody says so; what is behind it goes on. One that is gone is left alone.
func TestAHookThatRefuses(t *testing.T) {
	t.Parallel()
	dir, ctx := t.TempDir(), context.Background()
	h := &hook{refuse: func(body string) int {
		if strings.Contains(body, `"subject":"d2"`) {
			return http.StatusBadRequest
		}
		return 0
	}}
	h.Server = httptest.NewServer(h)
	defer h.Close()
	options := stream.Options{Issuer: "https://posture.gullholm.example", Retry: time.Millisecond,
		Policy: outbound.Policy{Inside: []netip.Prefix{netip.MustParsePrefix("127.0.0.0/8")}}}
	s := opened(t, dir, nil)
	s.Streams.Start(options)
	if _, _, err := s.Admin.Publish(ctx, "author",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: hooked}}}); err != nil {
		t.Fatal(err)
	}
	st, err := s.Streams.Create(ctx, "ada", api.StreamDraft{Receiver: "chat", Endpoint: h.URL})
	if err != nil || !strings.HasPrefix(st.Secret, "whsec_") {
		t.Fatalf("%+v, %v", st, err)
	}
	a := &acts{s: s}
	shows := func(id, encrypted string) {
		t.Helper()
		if err := a.take(ctx, `{"source":"desk","identity":{"id":"`+id+
			`"},"evidence":{"storage.encrypted":`+encrypted+`}}`); err != nil {
			t.Fatal(err)
		}
	}
	for _, id := range []string{"d1", "d2", "d3"} {
		shows(id, "true")
	}
	shows("d2", "false")
	given := func() int {
		list, err := s.Streams.Letters(st.ID)
		if err != nil {
			t.Fatal(err)
		}
		return len(list)
	}
	eventually(t, "two events are given up", func() bool { return given() == 2 })
	eventually(t, "the others arrive", func() bool { took, _ := h.counts(); return took == 2 })
	list, _ := s.Streams.Letters(st.ID)
	if l := list[0]; l.Attempts != 6 || l.Device != "d2" || l.Event != "standing-change" ||
		!strings.Contains(l.Why, "400") {
		t.Errorf("given up is %+v", l)
	}
	eventually(t, "nothing waits", func() bool { // a letter is kept before the event is taken off
		shown, err := s.Streams.Show(st.ID)
		return err == nil && shown.Letters == 2 && shown.Secret == "" && shown.Waiting == 0 && shown.Refused == 2
	})
	if err := s.Close(); err != nil {
		t.Fatal(err)
	}

	s = opened(t, dir, nil)
	defer s.Close()
	a.s = s
	s.Streams.Start(options)
	if given() != 2 {
		t.Fatalf("after a restart %d are given up", given())
	}
	// Still refused: they stay where they are, and count on.
	resent, err := s.Streams.Resend(ctx, "ada", st.ID, nil)
	if err != nil || resent.Sent != 2 {
		t.Fatalf("%+v, %v", resent, err)
	}
	eventually(t, "they are tried again", func() bool {
		list, _ := s.Streams.Letters(st.ID)
		return len(list) == 2 && list[0].Attempts == 12 && list[1].Attempts == 12
	})
	h.refuses(func(string) int { return 0 })
	if _, err := s.Streams.Resend(ctx, "ada", st.ID, []string{"nonsense"}); err == nil {
		t.Error("what is not there is sent again")
	}
	if _, err := s.Streams.Resend(ctx, "ada", st.ID, []string{list[1].ID}); err != nil {
		t.Fatal(err)
	}
	eventually(t, "one arrives", func() bool { return given() == 1 })
	if n, err := s.Streams.DropLetters(ctx, "ada", st.ID, nil, "nobody needs it"); err != nil || n != 1 || given() != 0 {
		t.Errorf("%d dropped, %v", n, err)
	}
	took, _ := h.counts()
	if took != 3 || !slices.ContainsFunc(h.took, func(body string) bool { return strings.Contains(body, list[1].ID) }) {
		t.Errorf("%d arrived: %q", took, h.took)
	}

	h.refuses(func(string) int { return http.StatusGone })
	shows("d3", "false")
	eventually(t, "the stream is paused", func() bool {
		shown, err := s.Streams.Show(st.ID)
		return err == nil && shown.Status == "paused" && strings.Contains(shown.Reason, "410")
	})
	h.refuses(func(string) int { return 0 })
	if _, err := s.Streams.SetStatus(ctx, "ada", st.ID, "", "enabled", "it is back"); err != nil {
		t.Fatal(err)
	}
	eventually(t, "it goes on where it was", func() bool { took, _ := h.counts(); return took == 4 })

	// A receiver that the rulebook has told otherwise is told nothing.
	set := strings.Replace(hooked, "form: cloudevents, ", "", 1)
	if _, _, err := s.Admin.Publish(ctx, "author",
		api.Draft{Files: []rulebook.File{{Name: "r.yaml", Text: set}}}); err != nil {
		t.Fatal(err)
	}
	shows("d3", "true")
	eventually(t, "the stream says why", func() bool {
		shown, err := s.Streams.Show(st.ID)
		return err == nil && strings.Contains(shown.Failure, "made to tell by cloudevents")
	})
	if took, _ := h.counts(); took != 4 {
		t.Errorf("%d arrived: %q", took, h.took)
	}
	if err := s.Streams.Remove(ctx, "ada", st.ID, "", "done"); err != nil {
		t.Fatal(err)
	}
}
