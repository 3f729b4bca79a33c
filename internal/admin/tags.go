package admin

import (
	"context"
	"regexp"
	"slices"
	"strings"

	"ironledger.example/api"
	"ironledger.example/core/event"
	"ironledger.example/internal/fault"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/state"
)

// tag is what a tag looks like.
var tag = regexp.MustCompile(`^[\p{L}\p{N}][\p{L}\p{N}._-]{0,49}$`)

// maxTags bounds how many tags a device has.
const maxTags = 20

// Tag puts words on devices and takes some off, notes something of them, and says whose they are: of all of them or
// none. Conditions ask for the words (tags contains "pilot") and the owner, so that they count at once.
func (s *Service) Tag(ctx context.Context, actor string, d api.TagsDraft) ([]kept.Tags, error) {
	for _, t := range slices.Concat(d.Add, d.Remove) {
		if !tag.MatchString(t) {
			return nil, fault.Inputf("", "%.60q is no tag: a word of letters, digits, dots, dashes and underscores, "+
				"50 at most", t)
		}
	}
	switch {
	case d.Note != nil && len(*d.Note) > fault.MaxReason:
		return nil, fault.Inputf("/note", "longer than %d bytes", fault.MaxReason)
	case len(d.Add)+len(d.Remove) == 0 && d.Note == nil && d.Owner == nil:
		return nil, fault.Input("", "say what to add, to remove or to note, or whose they are")
	}
	return each(ctx, s, d.Devices, func(c *state.Change, of *state.Device) (kept.Tags, error) {
		return tagOne(c, actor, of, &d)
	})
}

// tagOne changes the tags of a device, if they are others then.
func tagOne(c *state.Change, actor string, d *state.Device, draft *api.TagsDraft) (kept.Tags, error) {
	old := d.Tags
	if old == nil {
		old = &kept.Tags{Device: d.ID}
	}
	next := kept.Tags{Device: d.ID, List: slices.Clone(old.List), Note: old.Note, Owner: old.Owner, By: actor, At: c.Now}
	told := event.DeviceTagged{Device: d.ID}
	for _, t := range draft.Add {
		if !slices.Contains(next.List, t) {
			next.List, told.Added = append(next.List, t), append(told.Added, t)
		}
	}
	for _, t := range draft.Remove {
		if i := slices.Index(next.List, t); i >= 0 {
			next.List, told.Removed = slices.Delete(next.List, i, i+1), append(told.Removed, t)
		}
	}
	slices.Sort(next.List)
	if len(next.List) > maxTags {
		return kept.Tags{}, fault.Inputf("/add", "the device %s would have more than %d tags", d.ID, maxTags)
	}
	noted := false
	if draft.Note != nil {
		next.Note = strings.TrimSpace(*draft.Note)
		noted, told.Note = next.Note != old.Note, next.Note
	}
	if draft.Owner != nil && *draft.Owner != old.Owner {
		if _, known := c.Base.People.Get(*draft.Owner); !known && *draft.Owner != "" {
			return kept.Tags{}, fault.Inputf("/owner", "nobody is known by the id %q%s", *draft.Owner,
				nearestPerson(c.Base, *draft.Owner))
		}
		next.Owner, told.Owner = *draft.Owner, draft.Owner
	}
	if len(told.Added)+len(told.Removed) == 0 && !noted && told.Owner == nil {
		return *old, nil
	}
	d.Tags = &next
	c.Record(actor, &told)
	if err := state.Put(c, state.TagsKind, d.ID, &next); err != nil {
		return kept.Tags{}, err
	}
	c.Reappraise(d, state.Cause{Kind: event.ByTags, Actor: actor})
	return next, nil
}

func nearestPerson(snap *state.Snapshot, id string) string {
	var ids []string
	for _, p := range snap.People.List() {
		ids = append(ids, p.ID)
	}
	return fault.Nearest(id, ids)
}
