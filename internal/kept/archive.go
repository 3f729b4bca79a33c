package kept

import (
	"fmt"

	"ironledger.example/core/ledger"
)

// Archive is a file that holds the bodies of old entries. Moments are in microseconds since the
// Unix epoch.
type Archive struct {
	ledger.Archival
	By    string `json:"by"`
	At    int64  `json:"at"`
	Place string `json:"place,omitempty"` // where people took the file, in their words
	// Away is the last entry whose body gave way to the archive's id; the archive is done when
	// it is the last that it has.
	Away int64 `json:"away"`
}

// Where says in a sentence where the bodies of the archive called id are; a is nil when nothing is
// known of it.
func (a *Archive) Where(id string) string {
	switch {
	case a == nil:
		return "it is in the archive " + id
	case a.Place != "":
		return fmt.Sprintf("it is in the archive %s, the file %s (%s)", id, a.File, a.Place)
	}
	return fmt.Sprintf("it is in the archive %s, the file %s", id, a.File)
}
