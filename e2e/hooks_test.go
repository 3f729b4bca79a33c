package e2e

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/http/httptest"
	"slices"
	"strings"
	"sync"
	"testing"

	cloudhttp "github.com/cloudevents/sdk-go/v2/protocol/http"
)

const hookBook = `rulebook: hooks
signals:
  compliant_from: sound
  receivers:
    - {id: chat, form: cloudevents, person: email, when: 'change.from >= sound and change.to < sound and "till" in change.lost'}
    - {id: desk, form: cloudevents, device: serial, events: [device-compliance-change]}
    - {id: idp}
break_glass: [keeper]
resources: [{id: till}, {id: notices}]
baselines: [{id: b, rules: [{id: disk, title: Storage is encrypted, check: storage.encrypted, cap: limited}]}]
gates:
  - {id: g, number: 1, who: {everyone: true}, what: {resources: [till]}, need: level >= sound and auth.mfa, valid_for: 1h}
  - {id: h, number: 2, who: {everyone: true}, what: {resources: [notices]}, need: level >= unproven, valid_for: 1h}
`

// hookCall is a call of a web hook.
type hookCall struct {
	header http.Header
	body   []byte
}

// hooks is a web hook, as a receiver would write it who knows CloudEvents 1.0 and
// Standard Webhooks: nothing of it is ours.
type hooks struct {
	*httptest.Server
	mu  sync.Mutex
	got []hookCall
}

func openHook(t *testing.T) *hooks {
	h := &hooks{}
	h.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		body, _ := io.ReadAll(r.Body)
		h.mu.Lock()
		defer h.mu.Unlock()
		h.got = append(h.got, hookCall{r.Header.Clone(), body})
		w.WriteHeader(http.StatusNoContent)
	}))
	t.Cleanup(h.Close)
	return h
}

func (h *hooks) await(t *testing.T, n int) hookCall {
	t.Helper()
	var got []hookCall
	if !soon(func() bool {
		h.mu.Lock()
		defer h.mu.Unlock()
		got = slices.Clone(h.got)
		return len(got) >= n
	}) {
		t.Fatalf("%d calls came, %d are due", len(got), n)
	}
	return got[n-1]
}

// signed are the signatures of a call that fit a secret (Standard Webhooks, "Verifying
// webhook authenticity").
func (c *hookCall) signed(t *testing.T, secret string) (n int) {
	t.Helper()
	key, err := base64.StdEncoding.DecodeString(strings.TrimPrefix(secret, "whsec_"))
	if err != nil || len(key) < 24 || len(key) > 64 || !strings.HasPrefix(secret, "whsec_") {
		t.Fatalf("the secret has %d bytes (%v)", len(key), err)
	}
	mac := hmac.New(sha256.New, key)
	fmt.Fprintf(mac, "%s.%s.%s", c.header.Get("webhook-id"), c.header.Get("webhook-timestamp"), c.body)
	want := "v1," + base64.StdEncoding.EncodeToString(mac.Sum(nil))
	for _, s := range strings.Fields(c.header.Get("webhook-signature")) {
		if s == want {
			n++
		}
	}
	return n
}

type streamShown struct {
	ID, Secret string
	Letters    int
}

// Web hooks are told by CloudEvents, signed, of what their condition lets through.
func TestWebHooks(t *testing.T) {
	t.Parallel()
	s := start(t, "serve", t.TempDir(), "--call-inside", "127.0.0.0/8")
	s.run(t, hookBook, "rulebook", "publish", "-").want(t, 0)
	s.run(t, "id,name,groups\nmaren@gullholm.example,Maren,office\n", "person", "import", "-").want(t, 0)
	chat, desk := openHook(t), openHook(t)
	var toChat, toDesk streamShown
	s.run(t, "", "stream", "create", "chat", "--endpoint", chat.URL+"/x?key=hidden", "-o", "json").into(t, &toChat)
	s.run(t, "", "stream", "create", "desk", "--endpoint", desk.URL, "--binary", "-o", "json").into(t, &toDesk)
	s.run(t, "", "stream", "show", toChat.ID).want(t, 0, "as CloudEvents", `"till" in change.lost`,
		"/x?…").not(t, "whsec_")

	s.shows(t, "d1", true) // seen for the first time: compliant, and nothing lost
	s.shows(t, "d1", false)
	s.shows(t, "d1", true)
	s.shows(t, "d1", false)
	first := chat.await(t, 1)
	e, err := cloudhttp.NewEventFromHTTPRequest(&http.Request{Header: first.header,
		Body: io.NopCloser(bytes.NewReader(first.body))})
	if err != nil {
		t.Fatal(err)
	}
	var data struct {
		Subject struct {
			User   struct{ Email string }
			Device struct{ ID string }
		} `json:"sub_id"`
		Event struct {
			Previous string   `json:"previous_level"`
			Current  string   `json:"current_level"`
			Binding  []string `json:"binding"`
			Lost     []string `json:"lost"`
		} `json:"event"`
		Link string `json:"link"`
	}
	if err := json.Unmarshal(e.Data(), &data); err != nil {
		t.Fatal(err)
	}
	if err := e.Validate(); err != nil || e.SpecVersion() != "1.0" || e.Type() != "example.ironledger.standing-change" ||
		e.Source() != s.url || e.Subject() != "d1" || e.Time().IsZero() || e.ID() != first.header.Get("webhook-id") ||
		e.Extensions()["sequence"] == nil || first.header.Get("Content-Type") != "application/cloudevents+json" {
		t.Errorf("it is %s (%v)", e, err)
	}
	if data.Event.Previous != "strong" || data.Event.Current != "limited" ||
		!slices.Equal(data.Event.Lost, []string{"till"}) ||
		!slices.Equal(data.Event.Binding, []string{"b/disk"}) || data.Subject.User.Email != "maren@gullholm.example" ||
		data.Link != s.url+"/devices/d1" {
		t.Errorf("it says %+v", data)
	}
	if first.signed(t, toChat.Secret) != 1 || first.signed(t, toDesk.Secret) != 0 {
		t.Error("it is not signed with the stream's secret")
	}
	// Neither the cure nor the first sight: the next is the second fall.
	second, err := cloudhttp.NewEventFromHTTPRequest(&http.Request{Header: chat.await(t, 2).header,
		Body: io.NopCloser(bytes.NewReader(chat.await(t, 2).body))})
	if err != nil || !strings.Contains(string(second.Data()), `"current_level":"limited"`) ||
		fmt.Sprint(second.Extensions()["sequence"]) <= fmt.Sprint(e.Extensions()["sequence"]) {
		t.Errorf("then comes %s (%v)", second, err)
	}

	t.Run("in the binary mode", func(t *testing.T) {
		fell := desk.await(t, 2)
		if fell.header.Get("ce-specversion") != "1.0" || fell.header.Get("ce-subject") != "GF-d1" ||
			fell.header.Get("ce-type") != "example.ironledger.device-compliance-change" ||
			fell.header.Get("Content-Type") != "application/json" || fell.signed(t, toDesk.Secret) != 1 {
			t.Errorf("the headers are %v", fell.header)
		}
		if !strings.Contains(string(fell.body), `"current_status":"not-compliant"`) ||
			strings.Contains(string(fell.body), "maren") || strings.Contains(string(fell.body), `"link"`) {
			t.Errorf("the data are %s", fell.body)
		}
	})
	t.Run("secrets overlap, or end at once", func(t *testing.T) {
		var turned, again streamShown
		s.run(t, "", "stream", "rotate-secret", toChat.ID, "--reason", "yearly", "-o", "json").into(t, &turned)
		s.run(t, "", "stream", "test", toChat.ID).want(t, 0, "acknowledged")
		if c := chat.await(t, 3); c.signed(t, toChat.Secret) != 1 || c.signed(t, turned.Secret) != 1 {
			t.Errorf("signed with %s", c.header.Get("webhook-signature"))
		}
		s.run(t, "", "stream", "show", toChat.ID).want(t, 0, "signs with the one before too")
		s.run(t, "", "stream", "rotate-secret", toChat.ID, "--reason", "it leaked", "--overlap", "0s", "-o",
			"json").into(t, &again)
		s.run(t, "", "stream", "test", toChat.ID).want(t, 0, "acknowledged")
		if c := chat.await(t, 4); c.signed(t, toChat.Secret)+c.signed(t, turned.Secret) != 0 ||
			c.signed(t, again.Secret) != 1 ||
			len(strings.Fields(c.header.Get("webhook-signature"))) != 1 {
			t.Errorf("signed with %s", c.header.Get("webhook-signature"))
		}
		s.run(t, "", "stream", "rotate-secret", toChat.ID, "--reason", "x", "--overlap", "90d").want(t, 1, "at most 30d")
	})
	t.Run("what is asked wrongly", func(t *testing.T) {
		s.run(t, "", "stream", "create", "chat").want(t, 1, "say where they are sent")
		s.run(t, "", "stream", "create", "idp", "--binary").want(t, 1, "told by set")
		s.run(t, "", "stream", "create", "chat", "--endpoint", "https://10.0.0.1/x").want(t, 1, "inside")
		s.run(t, "", "stream", "create", "chat", "--endpoint", "http://169.254.169.254/x").want(t, 1, "not https")
		s.run(t, strings.Replace(hookBook, `"till" in change.lost`, `"till" in change.los`, 1), "rulebook", "check", "-").
			want(t, 1, "change.los", "did you mean change.lost?")
		// Its own token creates no hook: an administrator says where things are sent.
		s.call(t, "POST", "/ssf/streams", s.tokenOf(t, "chat", "receiver"), "application/json", `{}`).into(t,
			http.StatusForbidden, nil)
	})
}

// What a receiver refuses is kept, sent again on request, or dropped for a reason.
func TestWhatWasRefusedIsSentAgain(t *testing.T) {
	s := signalling(t, t.TempDir())
	box := openInbox(t)
	refuse := true
	box.answer = func(_ int, w http.ResponseWriter) bool {
		if refuse {
			w.Header().Set("Content-Type", "application/json")
			w.WriteHeader(http.StatusBadRequest)
			io.WriteString(w, `{"err":"invalid_audience","description":"not for us"}`)
		}
		return refuse
	}
	t.Setenv("BOX", "Bearer to-the-inbox")
	var st streamShown
	s.run(t, "", "stream", "create", "gateway", "--endpoint", box.URL, "--authorization-from", "BOX", "--event",
		"device-compliance-change", "-o", "json").into(t, &st)
	s.shows(t, "d1", false)
	s.shows(t, "d1", true)
	box.await(t, 2)
	var list struct {
		Items []struct{ ID, Device, Why string }
	}
	soon(func() bool {
		s.run(t, "", "stream", "letters", st.ID, "-o", "json").into(t, &list)
		return len(list.Items) == 2
	})
	if len(list.Items) != 2 || list.Items[0].Device != "d1" || !strings.Contains(list.Items[0].Why, "invalid_audience") {
		t.Fatalf("kept are %+v", list)
	}
	s.run(t, "", "stream", "show", st.ID).want(t, 0, "Given up  2 events")
	box.mu.Lock()
	refuse = false
	box.mu.Unlock()
	s.run(t, "", "stream", "resend", st.ID, "nonsense").want(t, 1, "no event nonsense")
	s.run(t, "", "stream", "resend", st.ID, list.Items[0].ID).want(t, 0, "1 on their way")
	if got := claimsOf(t, box.await(t, 3)[2]); got.ID != list.Items[0].ID {
		t.Errorf("sent is %s, refused was %s", got.ID, list.Items[0].ID)
	}
	s.run(t, "", "stream", "drop", st.ID).want(t, 2, `"reason" not set`)
	s.run(t, "", "stream", "drop", st.ID, "--reason", "x").want(t, 2, "say --all")
	s.run(t, "", "stream", "drop", st.ID, "--all", "--reason", "They have it otherwise").want(t, 0, "1 dropped")
	s.run(t, "", "stream", "letters", st.ID).want(t, 0).not(t, list.Items[1].ID)
	s.run(t, "", "ledger", "list", "--kind", "stream.changed").want(t, 0, "They have it otherwise", "1 are sent again")
}

// Killed while it tells a web hook, the service tells each change in the end, in order, some more than once.
func TestAKilledServiceTellsItsHooks(t *testing.T) {
	t.Parallel()
	data := t.TempDir()
	s := start(t, "serve", data, "--call-inside", "127.0.0.0/8")
	s.run(t, `rulebook: r
signals: {receivers: [{id: room, form: cloudevents, events: [standing-change]}]}
baselines: [{id: b, rules: [{id: disk, check: storage.encrypted, cap: limited}]}]
`, "rulebook", "publish", "-", "--accept-impact", "a trial").want(t, 0)
	room := openHook(t)
	s.run(t, "", "stream", "create", "room", "--endpoint", room.URL).want(t, 0)
	changes := 0
	change := func(n int) {
		for range n {
			changes++
			s.shows(t, "d1", changes%2 == 0)
		}
	}
	for range rounds() {
		change(5)
		s.kill(t)
		s = start(t, "serve", data, "--call-inside", "127.0.0.0/8")
		change(2)
	}
	var levels []string
	soon(func() bool {
		levels = nil
		seen := map[string]bool{}
		room.mu.Lock()
		for _, c := range room.got {
			var says struct {
				ID   string
				Data struct {
					Event struct {
						Current string `json:"current_level"`
					}
				}
			}
			if err := json.Unmarshal(c.body, &says); err != nil {
				t.Fatal(err)
			}
			if !seen[says.ID] {
				levels = append(levels, says.Data.Event.Current)
			}
			seen[says.ID] = true
		}
		room.mu.Unlock()
		return len(levels) >= changes
	})
	for i, level := range levels {
		if want := []string{"limited", "strong"}[i%2]; level != want {
			t.Errorf("change %d is told as %s", i+1, level)
		}
	}
	if len(levels) != changes {
		t.Errorf("%d changes were told of %d", len(levels), changes)
	}
}
