package service_test

import (
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/api"
	"ironledger.example/internal/bearer"
)

// A token ends at its moment, over restarts; its sign-in to the console with it. A week before, somebody is told.
func TestTokensEndByThemselves(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := open(t, dir)
		made, secret, err := s.Admin.CreateToken(ctx, "boss", "auditor", bearer.Reader, "30d")
		if err != nil || made.EndsAt == "" {
			t.Fatal(made, err)
		}
		for _, lives := range []string{"0d", "soon", "4000w"} {
			if _, _, err := s.Admin.CreateToken(ctx, "boss", "another", bearer.Reader, lives); err == nil {
				t.Errorf("a token lives for %s", lives)
			}
		}
		told := func() (out []string) {
			list, err := s.Alerts.List()
			if err != nil {
				t.Fatal(err)
			}
			for _, a := range list.Items {
				if a.Kind == "token" {
					out = append(out, a.Title)
				}
			}
			return out
		}
		time.Sleep(22 * 24 * time.Hour)
		if len(told()) != 0 {
			t.Errorf("eight days before, %v are told of", told())
		}
		time.Sleep(2 * 24 * time.Hour)
		shut(t, s)
		s = open(t, dir)
		defer func() { shut(t, s) }()
		if list := told(); len(list) != 1 || !strings.Contains(list[0], "auditor") {
			t.Errorf("six days before, %v are told of", list)
		}
		if _, err := s.Admin.SignIn(&made); err != nil {
			t.Fatal(err)
		}
		time.Sleep(6*24*time.Hour - time.Hour)
		session, err := s.Admin.SignIn(&made)
		if err != nil {
			t.Fatal(err)
		}
		if _, ok := s.Admin.Authenticate(secret); !ok {
			t.Error("it has ended an hour before")
		}
		time.Sleep(time.Hour)
		if _, ok := s.Admin.Authenticate(secret); ok {
			t.Error("it has not ended at its moment")
		}
		if _, ok := s.Admin.SignedIn(ctx, session); ok {
			t.Error("the console does not know that it has ended")
		}
		if _, _, err := s.Admin.CreateToken(ctx, "boss", "auditor", bearer.Reader, ""); err != nil {
			t.Errorf("its name is not free: %v", err)
		}
	})
}

// A token is rotated with an overlap or at once; the last use of each is known over a restart.
func TestTokensAreRotated(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := open(t, dir)
		_, first, err := s.Admin.CreateToken(ctx, "boss", "mdm", bearer.Source, "10d")
		if err != nil {
			t.Fatal(err)
		}
		_, second, err := s.Admin.RotateToken(ctx, "boss", "mdm", api.TokenRotation{Overlap: "1d"})
		if err != nil {
			t.Fatal(err)
		}
		good := func(want ...bool) {
			t.Helper()
			for i, secret := range []string{first, second} {
				if got, ok := s.Admin.Authenticate(secret); ok != want[i] || ok &&
					(got.Name != "mdm" || got.Role != bearer.Source) {
					t.Errorf("the secret %d is good: %v, for %+v", i+1, ok, got)
				}
			}
		}
		good(true, true)
		time.Sleep(24 * time.Hour)
		good(false, true)
		used := s.Now().UTC().Format(time.RFC3339)
		time.Sleep(time.Hour)
		shut(t, s)
		s = open(t, dir)
		defer func() { shut(t, s) }()
		states := map[string]string{}
		for _, x := range s.Admin.Tokens() {
			states[x.Name+" "+x.State] = x.UsedAt
		}
		if states["mdm live"] != used || states["mdm ended"] == "" || len(states) != 3 {
			t.Errorf("the tokens were used %v, want the live one at %s", states, used)
		}
		_, third, err := s.Admin.RotateToken(ctx, "boss", "mdm", api.TokenRotation{})
		if err != nil {
			t.Fatal(err)
		}
		good(false, false)
		if _, ok := s.Admin.Authenticate(third); !ok {
			t.Error("the third is not good")
		}
		if _, _, err := s.Admin.RotateToken(ctx, "boss", "first-admin", api.TokenRotation{}); err != nil {
			t.Errorf("the only administrator's token cannot be rotated: %v", err)
		}
		if _, _, err := s.Admin.RotateToken(ctx, "boss", "nobody", api.TokenRotation{}); err == nil {
			t.Error("what there is not is rotated")
		}
	})
}
