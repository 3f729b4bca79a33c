package service

import (
	"context"
	"errors"
	"math/rand/v2"
	"testing"

	"ironledger.example/core/rulebook"
	"ironledger.example/internal/recheck"
	"ironledger.example/internal/state"
)

// Whatever is done, all fast paths lead where the plain way does; and where one does not, that is told.
func TestFastPathsAreChecked(t *testing.T) {
	t.Parallel()
	ctx := context.Background()
	s := opened(t, t.TempDir(), nil)
	defer s.Close()
	checks := recheck.Of(s.Engine, s.View, s.Decisions)
	a := newActs(s, rand.New(rand.NewPCG(19, 4)), "", true)
	for i := range 150 {
		name, _ := a.do(ctx)
		if err := checks.Once(ctx); err != nil {
			t.Fatalf("act %d, %s: %v", i, name, err)
		}
	}
	var d *state.Device
	s.Snapshot().Fleet.InService(func(x *state.Device) bool { d = x; return false })
	if d == nil {
		t.Fatal("there is no device")
	}
	was := d.Result.Level
	d.Result.Level = (was + 1) % rulebook.Level(len(s.Snapshot().Book.Rulebook.Ladder))
	var differs *recheck.DifferenceError
	if err := checks.Once(ctx); !errors.As(err, &differs) {
		t.Errorf("a device that stands elsewhere: %v", err)
	}
	if err := checks.Serve(ctx); !errors.As(err, &differs) {
		t.Errorf("the service goes on: %v", err)
	}
	d.Result.Level = was
	if err := checks.Once(ctx); err != nil {
		t.Error(err)
	}
}
