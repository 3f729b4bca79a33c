package ledger

import (
	"fmt"
	"math/bits"
	"strings"

	"golang.org/x/mod/sumdb/tlog"
)

// Tiles are the unit in which hashes are kept and served (C2SP tlog-tiles): a
// full one holds the hashes of TileWidth neighbours at a level that is a
// multiple of TileHeight. What lies between follows from them.
const (
	TileHeight = 8
	TileWidth  = 1 << TileHeight
)

// CompactRange is a tree that grows at its right edge. It holds the roots of the
// complete subtrees that the leaves so far make up, one for each bit that is
// set in their number: all that is needed to add a leaf or tell the root
// (RFC 6962, section 2.1). The zero CompactRange is an empty tree.
type CompactRange struct {
	size  int64
	roots []tlog.Hash // largest subtree first
}

// Size is the number of leaves.
func (r *CompactRange) Size() int64 { return r.size }

// Add adds a leaf. tile is called with each hash of a level above the leaves
// that tiles keep, as it becomes known: level counts tiles, so that it stands
// for TileWidth^level leaves. It may be nil.
func (r *CompactRange) Add(leaf tlog.Hash, tile func(level int, n int64, h tlog.Hash)) {
	r.roots = append(r.roots, leaf)
	r.size++
	for level := 1; level <= bits.TrailingZeros64(uint64(r.size)); level++ {
		last := len(r.roots) - 1
		r.roots[last-1] = tlog.NodeHash(r.roots[last-1], r.roots[last])
		r.roots = r.roots[:last]
		if tile != nil && level%TileHeight == 0 {
			tile(level/TileHeight, r.size>>level-1, r.roots[last-1])
		}
	}
}

// Root is the hash of the tree; of an empty one that of no bytes.
func (r *CompactRange) Root() tlog.Hash {
	if r.size == 0 {
		h, _ := tlog.TreeHash(0, nil) // reads nothing
		return h
	}
	root := r.roots[len(r.roots)-1]
	for i := len(r.roots) - 2; i >= 0; i-- {
		root = tlog.NodeHash(r.roots[i], root)
	}
	return root
}

// Clone copies a range, to go on from it twice.
func (r *CompactRange) Clone() CompactRange {
	return CompactRange{r.size, append([]tlog.Hash(nil), r.roots...)}
}

// Edge makes the range of a tree of a size from the hashes at its right edge.
// read gives one level's hashes of a partial tile: those from n on, width of
// them.
func Edge(size int64, read func(level int, n int64, width int) ([]tlog.Hash, error)) (CompactRange, error) {
	r := CompactRange{size: size}
	top := 0
	for size>>(TileHeight*(top+1)) > 0 {
		top++
	}
	for level := top; level >= 0; level-- {
		count := size >> (TileHeight * level) // of hashes at this level
		width := int(count % TileWidth)
		if width == 0 {
			continue
		}
		hashes, err := read(level, count-int64(width), width)
		if err != nil {
			return CompactRange{}, err
		}
		if len(hashes) != width {
			return CompactRange{}, fmt.Errorf("of level %d, %d of %d hashes are there", level, len(hashes), width)
		}
		var part CompactRange
		for _, h := range hashes {
			part.Add(h, nil)
		}
		r.roots = append(r.roots, part.roots...)
	}
	return r, nil
}

// TileReader gives the hashes of one level of tiles: width of them from n on.
type TileReader func(level int, n int64, width int) ([]tlog.Hash, error)

// ReadHashes makes a TileReader a [tlog.HashReader], from which proofs are made.
func (read TileReader) ReadHashes(indexes []int64) ([]tlog.Hash, error) {
	out := make([]tlog.Hash, len(indexes))
	tiles := map[tlog.Tile][]byte{}
	for i, index := range indexes {
		t := tlog.TileForIndex(TileHeight, index)
		data, known := tiles[t]
		if !known {
			var err error
			if data, err = read.Tile(t); err != nil {
				return nil, err
			}
			tiles[t] = data
		}
		h, err := tlog.HashFromTile(t, data, index)
		if err != nil {
			return nil, err
		}
		out[i] = h
	}
	return out, nil
}

// Tile reads the hashes of a tile, one after the other.
func (read TileReader) Tile(t tlog.Tile) ([]byte, error) {
	hashes, err := read(t.L, t.N*TileWidth, t.W)
	if err != nil {
		return nil, err
	}
	if len(hashes) != t.W {
		return nil, fmt.Errorf("of the tile %s, %d of %d hashes are there", TilePath(t), len(hashes), t.W)
	}
	data := make([]byte, 0, t.W*tlog.HashSize)
	for _, h := range hashes {
		data = append(data, h[:]...)
	}
	return data, nil
}

// The paths of C2SP tlog-tiles leave out the height, which is always
// TileHeight, and call the records entries.
const (
	heightPrefix = "tile/8/"
	dataPrefix   = "data/"
	entryPrefix  = "entries/"
)

// TilePath is the path of a tile, as tile/0/x001/234.p/7 (C2SP tlog-tiles).
func TilePath(t tlog.Tile) string {
	path := strings.TrimPrefix(t.Path(), heightPrefix)
	if rest, ok := strings.CutPrefix(path, dataPrefix); ok {
		path = entryPrefix + rest
	}
	return "tile/" + path
}

// ParseTilePath reads the path of a tile. Level -1 is a bundle of entries.
func ParseTilePath(path string) (tlog.Tile, error) {
	rest, ok := strings.CutPrefix(path, "tile/")
	if entries, is := strings.CutPrefix(rest, entryPrefix); is {
		rest = dataPrefix + entries
	} else if strings.HasPrefix(rest, dataPrefix) {
		ok = false
	}
	t, err := tlog.ParseTilePath(heightPrefix + rest)
	if err != nil || !ok {
		return tlog.Tile{}, fmt.Errorf("%q is not the path of a tile", path)
	}
	return t, nil
}

// AppendBundled appends an entry to a bundle: its length in two bytes, big
// endian, and its canonical form (C2SP tlog-tiles, log entries).
func AppendBundled(b, canonical []byte) []byte {
	return append(append(b, byte(len(canonical)>>8), byte(len(canonical))), canonical...)
}
