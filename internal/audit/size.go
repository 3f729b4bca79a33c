package audit

import (
	"context"
	"os"
	"path/filepath"

	"ironledger.example/api"
	"ironledger.example/core/value"
	"ironledger.example/internal/engine"
)

// entryOverhead is what an entry costs beside its texts, in bytes: hash, number, time, its
// places in indexes and tiles. Measured over 64,000 decisions; see docs/running.md.
const entryOverhead = 105

// Size tells how large the records are, how fast they grow, and when the disk will be full of
// them, as far as that is known.
func (s *Service) Size(ctx context.Context) (*api.RecordsSize, error) {
	bytes, err := engine.RecordsSize(s.dir)
	if err != nil {
		return nil, err
	}
	free, mean, err := s.Store.Space(ctx)
	if err != nil {
		return nil, err
	}
	now := s.Micros()
	from := now - 7*value.Day
	before, err := s.Store.Before(ctx, from)
	if err != nil {
		return nil, err
	}
	if before == 0 { // younger than a week
		first, err := s.Store.Line(ctx, 1)
		if err != nil {
			return nil, err
		}
		from = first.At
	}
	out := &api.RecordsSize{Bytes: bytes, Free: free, Archives: s.archivesSize()}
	if span := now - from; span >= value.Day/24 { // of less nothing can be told
		out.EntriesADay = (s.Store.Sealed().Size - before) * value.Day / span
		out.GrowthADay = int64(float64(out.EntriesADay) * (mean + entryOverhead))
	}
	left, total, err := engine.DiskSpace(s.dir)
	if err != nil { // it is not known on every machine
		return out, nil
	}
	out.DiskLeft, out.DiskTotal = int64(left), int64(total)
	const horizon = 20 * 365 // days
	if days := (out.DiskLeft + free) / max(1, out.GrowthADay); out.GrowthADay > 0 && days < horizon {
		out.FullAt = value.FormatTime(now + days*value.Day)
	}
	return out, nil
}

// archivesSize is what the files of archives take in the folder of the records.
func (s *Service) archivesSize() (bytes int64) {
	for _, a := range s.Snapshot().Archives.List() {
		if info, err := os.Stat(filepath.Join(ArchiveFolder(s.dir), a.File)); err == nil {
			bytes += info.Size()
		}
	}
	return bytes
}
