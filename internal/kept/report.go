package kept

import (
	"bytes"
	"compress/gzip"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"

	"ironledger.example/core/account"
)

// Report is a report on controls that was made as the rulebook says.
type Report struct {
	ID     string `json:"id"`
	Report string `json:"report"` // of the rulebook
	From   int64  `json:"from"`   // in microseconds since the Unix epoch
	To     int64  `json:"to"`
	At     int64  `json:"at"`     // when it was made
	SHA256 string `json:"sha256"` // of [account.Report.JSON], in hex
	Size   int64  `json:"size"`   // entries
	Body   []byte `json:"body"`   // the same, compressed (RFC 1952)
	// Brief is what lists and trends show of it.
	Brief []Brief `json:"brief"`
}

// Brief is how a control was met.
type Brief struct {
	Control  string   `json:"control"`
	Share    *float64 `json:"share,omitempty"`
	NotMet   int64    `json:"not_met"`
	Unknown  int64    `json:"unknown"`
	Excepted int64    `json:"excepted"`
	Met      int64    `json:"met"`
}

// Keep puts a report into what is kept.
func (r *Report) Keep(of *account.Report) error {
	var out bytes.Buffer
	z := gzip.NewWriter(&out)
	_, err := z.Write(of.JSON())
	if err = errors.Join(err, z.Close()); err != nil {
		return err
	}
	r.Body, r.SHA256, r.Size, r.Brief = out.Bytes(), of.Digest(), of.Ledger.Size, nil
	for i := range of.Controls {
		c := &of.Controls[i]
		r.Brief = append(r.Brief, Brief{c.ID, c.Share, c.AtEnd.NotMet, c.AtEnd.Unknown, c.AtEnd.Excepted, c.AtEnd.Met})
	}
	return nil
}

// Open reads the report again. What is not what was kept is an error.
func (r *Report) Open() (*account.Report, error) {
	z, err := gzip.NewReader(bytes.NewReader(r.Body))
	if err != nil {
		return nil, fmt.Errorf("the report %s cannot be read: %w", r.ID, err)
	}
	raw, err := io.ReadAll(io.LimitReader(z, maxReport))
	if err != nil {
		return nil, fmt.Errorf("the report %s cannot be read: %w", r.ID, err)
	}
	if sum := sha256.Sum256(raw); hex.EncodeToString(sum[:]) != r.SHA256 {
		return nil, fmt.Errorf("the report %s is not the one that was made", r.ID)
	}
	var out account.Report
	if err := json.Unmarshal(raw, &out); err != nil {
		return nil, fmt.Errorf("the report %s cannot be read: %w", r.ID, err)
	}
	return &out, nil
}

// maxReport bounds what a report can be, in bytes.
const maxReport = 256 << 20
