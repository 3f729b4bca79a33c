package service_test

import (
	"testing"
	"testing/synctest"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/fault"
)

// Whose a device is may be set by hand: it counts where no source says another, for conditions, for the person's own
// devices and after a restart, and follows the person's groups.
func TestAnOwnerSetByHand(t *testing.T) {
	t.Parallel()
	synctest.Test(t, func(t *testing.T) {
		dir := t.TempDir()
		s := open(t, dir)
		people := func(group string) {
			t.Helper()
			list := []directory.Person{{ID: "ada", Name: "Ada", Groups: []string{group}}, {ID: "bo", Name: "Bo"}}
			if _, err := s.Admin.ImportPeople(ctx, "astrid", list,
				admin.ListImport{AcceptImpact: "a trial"}); err != nil {
				t.Fatal(err)
			}
		}
		people("crew")
		publish(t, s, `rulebook: r
break_glass: [master]
baselines:
  - {id: all, rules: [{id: form, check: known(form), cap: limited}]}
  - {id: crew, applies: known(owner) and owner.groups contains "crew", rules: [{id: disk, check: storage.encrypted, cap: barred}]}
`)
		const open1 = `"form":"laptop","storage.encrypted":false`
		report(t, s, "d1", open1)
		own := func(id, owner string) error {
			_, err := s.Admin.Tag(ctx, "desk", api.TagsDraft{Devices: []string{id}, Owner: &owner})
			return err
		}
		stands := func(when, want, owner string) {
			t.Helper()
			snap := s.Snapshot()
			of := ""
			for _, person := range []string{"ada", "bo"} {
				for _, d := range snap.DevicesOf(person, s.Now().UnixMicro()) {
					of += person + d.ID
				}
			}
			if got := level(s, "d1"); got != want || of != owner {
				t.Errorf("%s it stands at %s and is of %q; %s and %q were expected", when, got, of, want, owner)
			}
		}
		stands("without an owner", "strong", "")
		before := s.Now().UnixMicro()
		time.Sleep(time.Second)
		if err := own("d1", "ada"); err != nil {
			t.Fatal(err)
		}
		stands("as Ada's", "barred", "adad1")
		if then, err := s.View.DeviceAt(ctx, "d1", before); err != nil || then.Owner != "" {
			t.Errorf("before it was of %v, %v", then, err)
		}
		people("office")
		stands("when Ada left the crew", "strong", "adad1")
		people("crew")
		shut(t, s)
		s = open(t, dir)
		stands("after a restart", "barred", "adad1")

		report(t, s, "d1", open1+`,"owner":"bo"`)
		stands("when a source says another", "strong", "bod1")
		report(t, s, "d1", open1+`,"owner":{"unavailable":"not told"}`)
		stands("when the source does not know", "barred", "adad1")
		refusedAs[*fault.InputError](t, "nobody", own("d1", "adda"), "")
		stands("after a wrong name", "barred", "adad1")
		if err := own("d1", ""); err != nil {
			t.Fatal(err)
		}
		stands("when it is taken off", "strong", "")
		shut(t, s)
	})
}
