package client

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/ledger"
)

// ExportLedger streams entries; somebody must close them.
func (c *Client) ExportLedger(ctx context.Context, p api.ExportLedgerParams) (io.ReadCloser, error) {
	query := url.Values{}
	put(query, "from", p.From)
	put(query, "to", p.To)
	put(query, "format", p.Format)
	put(query, "wait", p.Wait)
	return c.stream(ctx, request{method: http.MethodGet, path: "/api/v1/ledger/export", query: query})
}

// Standings visits the level of every device, and returns the size of the ledger
// at the same moment.
func (c *Client) Standings(ctx context.Context, visit func(device, level string)) (size int64, err error) {
	body, err := c.stream(ctx, request{method: http.MethodGet, path: "/api/v1/ledger/standings"})
	if err != nil {
		return 0, err
	}
	defer body.Close()
	size = -1
	dec := json.NewDecoder(body)
	for {
		var x struct {
			Device, Level string
			Size          *int64
		}
		if err := dec.Decode(&x); errors.Is(err, io.EOF) && size >= 0 {
			return size, nil
		} else if err != nil {
			return 0, fmt.Errorf("the standings broke off: %w", err)
		}
		if x.Size != nil {
			size = *x.Size
			continue
		}
		visit(x.Device, x.Level)
	}
}

// maxLine bounds a line of an export, in bytes.
const maxLine = 2 * ledger.MaxEntry

// EachLine calls visit for each line of an export and returns the checkpoint
// that ends it; nil when none does. The error says at which line.
func EachLine(in io.Reader, visit func(*ledger.Line) error) (checkpoint []byte, err error) {
	scan := bufio.NewScanner(in)
	scan.Buffer(make([]byte, 0, 64<<10), maxLine)
	var l ledger.Line
	n := 0
	for scan.Scan() {
		n++
		if len(scan.Bytes()) == 0 {
			continue
		}
		if checkpoint != nil {
			return nil, fmt.Errorf("line %d: something stands behind the checkpoint", n)
		}
		if checkpoint, err = ledger.ParseLine(scan.Bytes(), &l); err != nil {
			return nil, fmt.Errorf("line %d: %w", n, err)
		}
		if checkpoint == nil {
			if err := visit(&l); err != nil {
				return nil, err
			}
		}
	}
	if err := scan.Err(); err != nil {
		return nil, fmt.Errorf("behind line %d: %w", n, err)
	}
	return checkpoint, nil
}

// followWait is how long the service keeps a follower waiting at a time.
const followWait = 30 * time.Second

// Follow visits every entry from one on as it comes, none twice and none left
// out, until visit returns an error or ctx ends. A service that cannot be
// reached is tried again; retry is told of it, and ends the following when it
// returns false.
func (c *Client) Follow(ctx context.Context, from int64, visit func(*ledger.Line) error,
	retry func(error) bool) error {
	for next, pause := from, time.Second; ctx.Err() == nil; {
		body, err := c.ExportLedger(ctx,
			api.ExportLedgerParams{From: next, Format: "ndjson",
				Wait: fmt.Sprintf("%ds", int(followWait.Seconds()))})
		if err == nil {
			var broken error
			_, err = EachLine(body, func(l *ledger.Line) error {
				if l.Seq != next {
					broken = fmt.Errorf("entry %d came where entry %d was due", l.Seq, next)
					return broken
				}
				if broken = visit(l); broken == nil {
					next++
				}
				return broken
			})
			err = errors.Join(err, body.Close())
			if broken != nil {
				return broken
			}
		}
		var refused *ProblemError
		switch {
		case err == nil:
			pause = time.Second
			continue
		case ctx.Err() != nil:
			return nil
		case errors.As(err, &refused) && refused.Status < 500, !retry(err):
			return err
		}
		select {
		case <-ctx.Done():
		case <-time.After(pause):
		}
		pause = min(2*pause, 30*time.Second)
	}
	return nil
}
