// Package bulk inserts rows into a table, many to a statement.
package bulk

import (
	"context"
	"database/sql"
	"fmt"
	"strings"
)

// Inserter inserts rows of one table, many to a statement.
type Inserter struct {
	Width int         // of a row, in values
	stmts []*sql.Stmt // for the numbers of rows in sizes
}

// sizes are how many rows a statement takes, largest first.
var sizes = []int{256, 64, 32, 16, 8, 4, 2, 1}

// New prepares statements of a head, as INSERT INTO t (a, b), rows of a width, and a tail.
func New(ctx context.Context, db *sql.DB, head string, width int, tail string) (*Inserter, error) {
	in := &Inserter{Width: width}
	row := "(?" + strings.Repeat(",?", width-1) + ")"
	for _, n := range sizes {
		stmt, err := db.PrepareContext(ctx, head+" VALUES "+row+strings.Repeat(","+row, n-1)+tail)
		if err != nil {
			return nil, fmt.Errorf("prepare %s: %w", head, err)
		}
		in.stmts = append(in.stmts, stmt)
	}
	return in, nil
}

// Insert inserts the rows that args hold, one value after the other.
func (in *Inserter) Insert(tx *sql.Tx, args []any) error {
	for i, n := range sizes {
		if len(args) < n*in.Width {
			continue
		}
		stmt := tx.Stmt(in.stmts[i])
		for len(args) >= n*in.Width {
			if _, err := stmt.Exec(args[:n*in.Width]...); err != nil {
				return err
			}
			args = args[n*in.Width:]
		}
	}
	return nil
}
