package controls

import (
	"encoding/base64"
	"errors"
	"fmt"

	"golang.org/x/mod/sumdb/tlog"

	"ironledger.example/core/account"
	"ironledger.example/core/control"
	"ironledger.example/core/ledger"
	"ironledger.example/core/value"
)

// Again makes a report again from an export of the ledger, and compares. What the numbers are about, the words of
// controls, is taken from the report itself.
type Again struct {
	of    *account.Report
	to    account.Period
	sums  *account.Account
	tree  ledger.CompactRange
	ended bool
}

// NewAgain begins to make a report again.
func NewAgain(r *account.Report) (*Again, error) {
	var p account.Period
	to, err := value.ParseTime(r.To)
	if err != nil {
		return nil, fmt.Errorf("the end of the period: %w", err)
	}
	p.From, p.To = to.Num(), to.Num()
	if r.From != "" {
		from, err := value.ParseTime(r.From)
		if err != nil {
			return nil, fmt.Errorf("the beginning of the period: %w", err)
		}
		p.From = from.Num()
	}
	return &Again{of: r, to: p, sums: account.New(p, nil)}, nil
}

// Add takes the next line of the export.
func (a *Again) Add(l *ledger.Line) error {
	if a.ended {
		return nil
	}
	if l.Archive != "" {
		return fmt.Errorf("the body of entry %d is in the archive %s: the report cannot be made again from this export",
			l.Seq, l.Archive)
	}
	err := a.sums.Add(&l.Entry)
	if errors.Is(err, account.ErrBehind) {
		a.ended = true
		return nil
	}
	if err != nil {
		return err
	}
	a.tree.Add(l.Leaf, func(int, int64, tlog.Hash) {})
	return nil
}

// Differs tells in a sentence what came out otherwise, "" for nothing.
func (a *Again) Differs() (string, error) {
	root := a.tree.Root()
	if a.sums.Size() != a.of.Ledger.Size {
		return fmt.Sprintf("the report is made from %d entries, and the export has %d before %s", a.of.Ledger.Size,
			a.sums.Size(), a.of.To), nil
	}
	if base64.StdEncoding.EncodeToString(root[:]) != a.of.Ledger.Root {
		return "the entries of the export are not those that the report was made from", nil
	}
	words := control.Catalogue{Title: a.of.Catalogue, Version: a.of.Edition}
	var only []string
	for _, c := range a.of.Controls {
		words.Controls = append(words.Controls, control.Control{ID: c.ID, Title: c.Title, Group: c.Group,
			Statement: c.Statement})
		if a.of.Only {
			only = append(only, c.ID)
		}
	}
	if a.of.Only && only == nil {
		only = []string{}
	}
	out, err := a.sums.Report(ledger.Head{Origin: a.of.Ledger.Origin, Size: a.sums.Size(), Root: root}, a.of.Rulebook,
		&words, only)
	if err != nil {
		return "", err
	}
	return Difference(a.of, out), nil
}

// Difference tells in a sentence where two reports of one period differ first, "" when they are the same.
func Difference(was, is *account.Report) string {
	if was.Digest() == is.Digest() {
		return ""
	}
	if was.Missing != is.Missing {
		return fmt.Sprintf("the bodies of %d entries that count are gone now, and of %d when the report was made: they were "+
			"redacted since", is.Missing, was.Missing)
	}
	for i := range min(len(was.Controls), len(is.Controls)) {
		x, y := &was.Controls[i], &is.Controls[i]
		if string(value.JSON(x)) == string(value.JSON(y)) {
			continue
		}
		if x.AtEnd != y.AtEnd {
			return fmt.Sprintf("control %s: the report says %d met, %d not, %d not known, %d excepted; made again it is %d, "+
				"%d, %d, %d", x.ID, x.AtEnd.Met, x.AtEnd.NotMet, x.AtEnd.Unknown, x.AtEnd.Excepted, y.AtEnd.Met, y.AtEnd.NotMet,
				y.AtEnd.Unknown, y.AtEnd.Excepted)
		}
		return fmt.Sprintf("control %s is not the same when the report is made again", x.ID)
	}
	switch {
	case string(value.JSON(was.Exceptions)) != string(value.JSON(is.Exceptions)):
		return "the exceptions are not the same when the report is made again"
	case string(value.JSON(was.Publications)) != string(value.JSON(is.Publications)):
		return "the publications are not the same when the report is made again"
	}
	return "the report is not the same when it is made again"
}
