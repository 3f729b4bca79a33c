package store

import (
	"context"
	"encoding/json"
	"fmt"
)

// Documents reads every document of a kind, by id.
func Documents[T any](ctx context.Context, s *Store, kind string) (map[string]T, error) {
	rows, err := s.read.QueryContext(ctx, "SELECT id, body FROM documents WHERE kind = ? ORDER BY id", kind)
	if err != nil {
		return nil, fmt.Errorf("read the %ss: %w", kind, err)
	}
	defer rows.Close()
	out := map[string]T{}
	for rows.Next() {
		var id, body string
		var v T
		err := rows.Scan(&id, &body)
		if err == nil {
			err = json.Unmarshal([]byte(body), &v)
		}
		if err != nil {
			return nil, fmt.Errorf("read the %s %s: %w", kind, id, err)
		}
		out[id] = v
	}
	return out, rows.Err()
}

// PutDocument adds a document, or its new state, to a batch.
func (b *Batch) PutDocument(kind, id string, v any) error {
	body, err := json.Marshal(v)
	if err != nil {
		return fmt.Errorf("the %s %s has no JSON form: %w", kind, id, err)
	}
	b.put(documentsTable, kind, id, string(body))
	return nil
}

// DropDocument removes a document.
func (b *Batch) DropDocument(kind, id string) {
	b.drop(documentsTable, kind, id)
}
