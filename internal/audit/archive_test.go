package audit

import (
	"crypto/sha256"
	"encoding/hex"
	"os"
	"path/filepath"
	"testing"

	"ironledger.example/core/ledger"
	"ironledger.example/internal/kept"
)

// Bodies go only while the file that has them is there as it was made.
func TestAnArchiveIsStillThere(t *testing.T) {
	s := &Service{dir: t.TempDir()}
	if err := os.Mkdir(ArchiveFolder(s.dir), 0o700); err != nil {
		t.Fatal(err)
	}
	sum := sha256.Sum256([]byte("bodies"))
	a := &kept.Archive{Archival: ledger.Archival{Archive: "ar-1", File: "ar-1.ndjson.gz", SHA256: hex.EncodeToString(sum[:])}}
	file := filepath.Join(ArchiveFolder(s.dir), a.File)
	write := func(text string) {
		t.Helper()
		if err := os.WriteFile(file, []byte(text), 0o600); err != nil {
			t.Fatal(err)
		}
	}
	if s.stillThere(a) == nil {
		t.Error("a file that is missing is there")
	}
	if write("bodies"); s.stillThere(a) != nil {
		t.Errorf("the file is not there: %v", s.stillThere(a))
	}
	for _, text := range []string{"bodie", "bodies ", "Bodies", ""} {
		if write(text); s.stillThere(a) == nil {
			t.Errorf("%q is taken for the file", text)
		}
	}
}
