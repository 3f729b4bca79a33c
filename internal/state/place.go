package state

import "ironledger.example/internal/kept"

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
