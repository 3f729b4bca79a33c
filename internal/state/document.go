package state

import (
	"context"
	"maps"
	"slices"

	"ironledger.example/core/feed"
	"ironledger.example/internal/kept"
	"ironledger.example/internal/store"
	"ironledger.example/internal/versioned"
)

// table holds the documents of a kind. It is immutable.
type table[T any] struct{ versioned.Map[string, T] }

// List returns the documents in the order of their ids.
func (t table[T]) List() []T {
	byID := t.byID()
	out := make([]T, 0, len(byID))
	for _, id := range slices.Sorted(maps.Keys(byID)) {
		out = append(out, *byID[id])
	}
	return out
}

func (t table[T]) byID() map[string]*T { return maps.Collect(t.All()) }

// puts are documents as a change leaves them; nil for those that are no longer there.
type puts[T any] map[string]*T

// kind is how documents are kept: under which name on disk, where in a snapshot, and
// where in a change.
type kind[T any] struct {
	name string
	in   func(*Snapshot) *table[T]
	of   func(*Change) *puts[T]
}

// The kinds of documents. Those of unmatched reports and enrolments are put by
// [Change.PutUnmatched] and [Change.PutEnrolment], which keep up what finds them.
var (
	UnmatchedKind = kind[Unmatched]{"unmatched",
		func(s *Snapshot) *table[Unmatched] { return &s.Unmatched.table },
		func(c *Change) *puts[Unmatched] { return &c.unmatched }}
	EnrolmentKind = kind[Enrolment]{"enrolment",
		func(s *Snapshot) *table[Enrolment] { return &s.Enrolments.table },
		func(c *Change) *puts[Enrolment] { return &c.enrolments }}
	SearchKind = kind[kept.Search]{"search",
		func(s *Snapshot) *table[kept.Search] { return &s.Searches },
		func(c *Change) *puts[kept.Search] { return &c.searches }}
	WaiverKind = kind[Waiver]{"waiver",
		func(s *Snapshot) *table[Waiver] { return &s.Waivers },
		func(c *Change) *puts[Waiver] { return &c.waivers }}
	VouchKind = kind[Vouch]{"vouch",
		func(s *Snapshot) *table[Vouch] { return &s.Vouches },
		func(c *Change) *puts[Vouch] { return &c.vouches }}
	StreamKind = kind[kept.Stream]{"stream",
		func(s *Snapshot) *table[kept.Stream] { return &s.Streams },
		func(c *Change) *puts[kept.Stream] { return &c.streams }}
	StreamPlaceKind = kind[kept.StreamPlace]{"stream-place", // by stream
		func(s *Snapshot) *table[kept.StreamPlace] { return &s.places },
		func(c *Change) *puts[kept.StreamPlace] { return &c.places }}
	LetterKind = kind[kept.Letter]{"stream-letter", // by jti
		func(s *Snapshot) *table[kept.Letter] { return &s.Letters },
		func(c *Change) *puts[kept.Letter] { return &c.letters }}
	NoticeKind = kind[kept.Notice]{"notice",
		func(s *Snapshot) *table[kept.Notice] { return &s.Notices },
		func(c *Change) *puts[kept.Notice] { return &c.notices }}
	noticePlaceKind = kind[kept.NoticePlace]{"notice-place",
		func(s *Snapshot) *table[kept.NoticePlace] { return &s.noticePlace },
		func(c *Change) *puts[kept.NoticePlace] { return &c.noticePlace }}
	MuteKind = kind[kept.Mute]{"mute", // by person
		func(s *Snapshot) *table[kept.Mute] { return &s.Mutes },
		func(c *Change) *puts[kept.Mute] { return &c.mutes }}
	SeenKind = kind[kept.Seen]{"alert-seen", // by alert
		func(s *Snapshot) *table[kept.Seen] { return &s.Seen },
		func(c *Change) *puts[kept.Seen] { return &c.seen }}
	FeedKind = kind[kept.Feed]{"feed",
		func(s *Snapshot) *table[kept.Feed] { return &s.Feeds },
		func(c *Change) *puts[kept.Feed] { return &c.feeds }}
	FeedPlaceKind = kind[feed.Place]{"feed-place", // by feed
		func(s *Snapshot) *table[feed.Place] { return &s.FeedPlaces },
		func(c *Change) *puts[feed.Place] { return &c.feedPlaces }}
	HeardKind = kind[kept.Heard]{"signal-heard", // by what tells an event from others
		func(s *Snapshot) *table[kept.Heard] { return &s.Heard },
		func(c *Change) *puts[kept.Heard] { return &c.heard }}
	AuthorityKind = kind[kept.Authority]{"authority",
		func(s *Snapshot) *table[kept.Authority] { return &s.Authorities },
		func(c *Change) *puts[kept.Authority] { return &c.authorities }}
	CertificateKind = kind[kept.Certificate]{"certificate", // by serial
		func(s *Snapshot) *table[kept.Certificate] { return &s.Issued },
		func(c *Change) *puts[kept.Certificate] { return &c.issued }}
	InviteKind = kind[kept.Invite]{"invite", // by device
		func(s *Snapshot) *table[kept.Invite] { return &s.Invites },
		func(c *Change) *puts[kept.Invite] { return &c.invites }}
	StatementKind = kind[kept.Statements]{"statements", // by device
		func(s *Snapshot) *table[kept.Statements] { return &s.Statements },
		func(c *Change) *puts[kept.Statements] { return &c.statements }}
	QuarantineKind = kind[kept.Quarantine]{"quarantine", // by device
		func(s *Snapshot) *table[kept.Quarantine] { return &s.Quarantines },
		func(c *Change) *puts[kept.Quarantine] { return &c.quarantines }}
	TagsKind = kind[kept.Tags]{"tags", // by device
		func(s *Snapshot) *table[kept.Tags] { return &s.Tags },
		func(c *Change) *puts[kept.Tags] { return &c.tags }}
	TokenTermKind = kind[kept.TokenTerm]{"token-term", // by token
		func(s *Snapshot) *table[kept.TokenTerm] { return &s.terms },
		func(c *Change) *puts[kept.TokenTerm] { return &c.terms }}
	tokenUsesKind = kind[kept.TokenUses]{"token-uses",
		func(s *Snapshot) *table[kept.TokenUses] { return &s.tokenUses },
		func(c *Change) *puts[kept.TokenUses] { return &c.tokenUses }}
	MappingKind = kind[kept.Mapping]{"mapping", // by source
		func(s *Snapshot) *table[kept.Mapping] { return &s.Mappings },
		func(c *Change) *puts[kept.Mapping] { return &c.mappings }}
	ArchiveKind = kind[kept.Archive]{"archive",
		func(s *Snapshot) *table[kept.Archive] { return &s.Archives },
		func(c *Change) *puts[kept.Archive] { return &c.archives }}
	AccessPointKind = kind[kept.AccessPoint]{"access-point",
		func(s *Snapshot) *table[kept.AccessPoint] { return &s.AccessPoints },
		func(c *Change) *puts[kept.AccessPoint] { return &c.accessPoints }}
	StayKind = kind[kept.Stay]{"stay",
		func(s *Snapshot) *table[kept.Stay] { return &s.Stays },
		func(c *Change) *puts[kept.Stay] { return &c.stays }}
	ReportKind = kind[kept.Report]{"report",
		func(s *Snapshot) *table[kept.Report] { return &s.Reports },
		func(c *Change) *puts[kept.Report] { return &c.reports }}
	RetirementKind = kind[Retirement]{"retirement", // by device
		func(s *Snapshot) *table[Retirement] { return &s.retired },
		func(c *Change) *puts[Retirement] { return &c.retired }}
)

// plain are the kinds that nothing is kept up beside.
var plain = []interface {
	load(ctx context.Context, s *store.Store, into *Snapshot) error
	apply(c *Change, to *Snapshot)
}{SearchKind, StreamKind, StreamPlaceKind, LetterKind, NoticeKind, noticePlaceKind, MuteKind, SeenKind, FeedKind,
	FeedPlaceKind,
	HeardKind, WaiverKind, VouchKind, AuthorityKind, CertificateKind, InviteKind, StatementKind,
	QuarantineKind, TagsKind, RetirementKind, ArchiveKind, MappingKind,
	TokenTermKind, tokenUsesKind, AccessPointKind, StayKind, ReportKind}

// load reads the documents from disk.
func (k kind[T]) load(ctx context.Context, s *store.Store, into *Snapshot) error {
	all, err := store.Documents[T](ctx, s, k.name)
	k.in(into).Map = versioned.Of(all)
	return err
}

// apply lays what a change puts over the documents of a snapshot.
func (k kind[T]) apply(c *Change, to *Snapshot) {
	t := k.in(to)
	t.Map = t.With(*k.of(c))
}

// Get reads a document as a change finds it, nil for none. Nobody may alter it.
func Get[T any](c *Change, k kind[T], id string) *T {
	if v, put := (*k.of(c))[id]; put {
		return v
	}
	return k.in(c.Base).Get(id)
}

// All reads the documents of a kind as a change finds them, by id.
func All[T any](c *Change, k kind[T]) map[string]*T {
	out := k.in(c.Base).byID()
	for id, v := range *k.of(c) {
		if v == nil {
			delete(out, id)
		} else {
			out[id] = v
		}
	}
	return out
}

// Put writes a document as a part of a change.
func Put[T any](c *Change, k kind[T], id string, v *T) error {
	if err := c.Batch.PutDocument(k.name, id, v); err != nil {
		return err
	}
	k.lay(c, id, v)
	return nil
}

// Drop removes a document as a part of a change.
func Drop[T any](c *Change, k kind[T], id string) {
	c.Batch.DropDocument(k.name, id)
	k.lay(c, id, nil)
}

func (k kind[T]) lay(c *Change, id string, v *T) {
	p := k.of(c)
	if *p == nil {
		*p = puts[T]{}
	}
	(*p)[id] = v
}

// theUses is the id of the one [kept.TokenUses].
const theUses = "tokens"

// TokenUses are the moments at which tokens were last used, as far as they were kept.
func (snap *Snapshot) TokenUses() kept.TokenUses {
	if u := snap.tokenUses.Get(theUses); u != nil {
		return *u
	}
	return nil
}

// PutTokenUses keeps them as a part of a change.
func (c *Change) PutTokenUses(u kept.TokenUses) error { return Put(c, tokenUsesKind, theUses, &u) }

// StreamPlace is how far a stream has come; where it began when nothing was acknowledged
// yet.
func (snap *Snapshot) StreamPlace(s *kept.Stream) int64 {
	if p := snap.places.Get(s.ID); p != nil {
		return p.Seq
	}
	return s.From
}

// thePlace is the id of the one [NoticePlace].
const thePlace = "notices"

// NoticePlace is up to where notices were made; -1 when none ever was.
func (snap *Snapshot) NoticePlace() int64 {
	if p := snap.noticePlace.Get(thePlace); p != nil {
		return p.Seq
	}
	return -1
}

// PutNoticePlace moves the place on as a part of a change.
func (c *Change) PutNoticePlace(seq int64) error {
	return Put(c, noticePlaceKind, thePlace, &kept.NoticePlace{Seq: seq})
}
