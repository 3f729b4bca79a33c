package intake

import (
	"crypto/sha256"
	"encoding/hex"
	"fmt"

	"ironledger.example/core/evidence"
	"ironledger.example/internal/state"
)

// maxKept bounds how many open reports of one source are kept aside, and how many
// wait.
const maxKept = 10_000

// keepUnmatched keeps a report that a person must settle. The newest one with the
// same source and keys counts.
func keepUnmatched(c *state.Change, rep *evidence.Report, conflict *evidence.ConflictError) (string, error) {
	return keepReport(c, "u-", rep, state.Unmatched{Why: conflict.Error()})
}

// keepWaiting keeps a report until another source makes its device known. What
// came before about the same device from the source stays with it.
func keepWaiting(c *state.Change, rep *evidence.Report) (string, error) {
	return keepReport(c, "w-", rep,
		state.Unmatched{Waiting: true,
			Why: "nobody knows the device, and " + rep.Source + " cannot make devices known"})
}

func keepReport(c *state.Change, prefix string, rep *evidence.Report, u state.Unmatched) (string, error) {
	h := sha256.New()
	fmt.Fprintf(h, "%q", rep.Source)
	for _, k := range rep.Keys() {
		fmt.Fprintf(h, "%q%q", k.Kind, k.Text)
	}
	u.ID, u.At, u.Times = prefix+hex.EncodeToString(h.Sum(nil))[:16], c.Now, 1
	u.Source, u.ExternalID, u.Identity, u.Observed = rep.Source, rep.ExternalID, rep.Identity, rep.At
	var record *evidence.Record
	if old := state.Get(c, state.UnmatchedKind, u.ID); old.Unsettled() {
		u.Times = old.Times + 1
		if before, err := old.Report(c.Base.Book.Rulebook.Dict); err == nil {
			record = record.With(before)
		}
		u.Observed = max(u.Observed, old.Observed)
	} else if c.Open(u.Of()) >= maxKept {
		return "", fmt.Errorf("%d reports of %s wait already to be joined to a device", maxKept, rep.Source)
	}
	for i := range rep.Readings {
		rep.Readings[i].Proved = false // of which device, a person says
	}
	u.Kept = record.With(rep).MarshalSource(rep.Source)
	return u.ID, c.PutUnmatched(u)
}

// Awaited takes in the reports that waited for a device with some keys, now that
// it is known.
func Awaited(c *state.Change, actor string, keys []evidence.Key) {
	for _, u := range c.Waiting(keys) {
		rep, err := u.Report(c.Base.Book.Rulebook.Dict)
		if err != nil {
			continue // it was kept under another rulebook, and stays where it is
		}
		j, err := c.Base.Book.Resolver.Join(rep, c)
		if err != nil || j.Wait {
			continue
		}
		c.DropUnmatched(u.ID)
		rep.Refused = c.Base.Book.Resolver.RefuseUnprovided(rep)
		apply(c, actor, 0, rep, j)
	}
}
