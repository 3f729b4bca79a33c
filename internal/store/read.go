package store

import (
	"bytes"
	"context"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"strings"

	"ironledger.example/core/directory"
	"ironledger.example/core/ledger"
	"ironledger.example/core/rulebook"
	"ironledger.example/internal/store/mention"
)

// ErrNotFound says that there is no record of that id.
var ErrNotFound = errors.New("not found")

const selectDevices = "SELECT id, keys, evidence, level, since, failing, first_seen, seen_at, refused, spoken, " +
	"revision, past FROM devices"

func scanDevice(scan func(...any) error) (d DeviceRow, err error) {
	err = scan(&d.ID, &d.Keys, &d.Evidence, &d.Level, &d.Since, &d.Failing, &d.FirstSeen, &d.SeenAt,
		&d.Refused, &d.Spoken, &d.Revision, &d.Past)
	return d, err
}

// DevicesAtMost tells how many devices there are at most; telling it takes no time.
func (s *Store) DevicesAtMost(ctx context.Context) (n int64, err error) {
	if err = s.read.QueryRowContext(ctx, "SELECT coalesce(max(rowid), 0) FROM devices").Scan(&n); err != nil {
		return 0, fmt.Errorf("count devices: %w", err)
	}
	return n, nil
}

// Devices calls visit for every device kept.
func (s *Store) Devices(ctx context.Context, visit func(DeviceRow) error) error {
	rows, err := s.read.QueryContext(ctx, selectDevices)
	if err != nil {
		return fmt.Errorf("read devices: %w", err)
	}
	defer rows.Close()
	for rows.Next() {
		d, err := scanDevice(rows.Scan)
		if err != nil {
			return fmt.Errorf("read devices: %w", err)
		}
		if err := visit(d); err != nil {
			return err
		}
	}
	return rows.Err()
}

// People reads the directory.
func (s *Store) People(ctx context.Context) ([]directory.Person, error) {
	rows, err := s.read.QueryContext(ctx, "SELECT id, name, groups FROM people ORDER BY id")
	if err != nil {
		return nil, fmt.Errorf("read people: %w", err)
	}
	defer rows.Close()
	var out []directory.Person
	for rows.Next() {
		var p directory.Person
		var groups string
		if err := rows.Scan(&p.ID, &p.Name, &groups); err != nil {
			return nil, fmt.Errorf("read people: %w", err)
		}
		if err := readPerson(&p, groups); err != nil {
			return nil, fmt.Errorf("read the groups of %s: %w", p.ID, err)
		}
		out = append(out, p)
	}
	return out, rows.Err()
}

// personRest is what the column groups holds of people of whom more is known than their
// groups; else it holds the list of these.
type personRest struct {
	Groups   []string `json:"groups"`
	Mail     string   `json:"mail,omitempty"`
	Language string   `json:"language,omitempty"`
}

func readPerson(p *directory.Person, groups string) error {
	if !strings.HasPrefix(groups, "{") {
		return json.Unmarshal([]byte(groups), &p.Groups)
	}
	var rest personRest
	err := json.Unmarshal([]byte(groups), &rest)
	p.Groups, p.Mail, p.Language = rest.Groups, rest.Mail, rest.Language
	return err
}

// PutPeople adds people to a batch.
func (b *Batch) PutPeople(people []directory.Person) error {
	for _, p := range people {
		var rest any = p.Groups
		if p.Mail != "" || p.Language != "" {
			rest = personRest{p.Groups, p.Mail, p.Language}
		}
		groups, err := json.Marshal(rest)
		if err != nil {
			return fmt.Errorf("the groups of %s have no JSON form: %w", p.ID, err)
		}
		b.put(peopleTable, p.ID, p.Name, string(groups))
	}
	return nil
}

// DropPeople removes people.
func (b *Batch) DropPeople(ids []string) {
	for _, id := range ids {
		b.drop(peopleTable, id)
	}
}

// Rulebook is a published version.
type Rulebook struct {
	Version int64           `json:"version"`
	At      int64           `json:"-"`
	Author  string          `json:"author"`
	Message string          `json:"message"`
	Digest  string          `json:"digest"`
	Files   []rulebook.File `json:"files,omitempty"`
}

// Rulebooks lists the published versions without their files, newest first.
func (s *Store) Rulebooks(ctx context.Context) ([]Rulebook, error) {
	rows, err := s.read.QueryContext(ctx,
		"SELECT version, at, author, message, digest FROM rulebooks ORDER BY version DESC")
	if err != nil {
		return nil, fmt.Errorf("read rulebooks: %w", err)
	}
	defer rows.Close()
	out := []Rulebook{}
	for rows.Next() {
		var r Rulebook
		if err := rows.Scan(&r.Version, &r.At, &r.Author, &r.Message, &r.Digest); err != nil {
			return nil, fmt.Errorf("read rulebooks: %w", err)
		}
		out = append(out, r)
	}
	return out, rows.Err()
}

// Rulebook reads one version with its files; version 0 is the newest.
func (s *Store) Rulebook(ctx context.Context, version int64) (*Rulebook, error) {
	r := &Rulebook{}
	var files string
	err := s.read.QueryRowContext(ctx,
		"SELECT version, at, author, message, digest, files FROM rulebooks WHERE version = ? OR ? = 0 ORDER BY "+
			"version DESC LIMIT 1", version, version).
		Scan(&r.Version, &r.At, &r.Author, &r.Message, &r.Digest, &files)
	if errors.Is(err, sql.ErrNoRows) {
		return nil, ErrNotFound
	}
	if err != nil {
		return nil, fmt.Errorf("read rulebook %d: %w", version, err)
	}
	return r, json.Unmarshal([]byte(files), &r.Files)
}

// PutRulebook adds a published version to a batch.
func (b *Batch) PutRulebook(r *Rulebook) error {
	files, err := json.Marshal(r.Files)
	if err != nil {
		return err
	}
	b.put(rulebooksTable, r.Version, r.At, r.Author, r.Message, r.Digest, string(files))
	return nil
}

// Token is a bearer token as it is kept; its secret is not.
type Token struct {
	ID, Name, Role, CreatedBy string
	Hash                      []byte
	CreatedAt, RevokedAt      int64
}

// Tokens lists all tokens, the revoked ones too.
func (s *Store) Tokens(ctx context.Context) ([]Token, error) {
	rows, err := s.read.QueryContext(ctx,
		"SELECT id, name, role, hash, created_at, created_by, revoked_at FROM tokens ORDER BY created_at, id")
	if err != nil {
		return nil, fmt.Errorf("read tokens: %w", err)
	}
	defer rows.Close()
	var out []Token
	for rows.Next() {
		var t Token
		if err := rows.Scan(&t.ID, &t.Name, &t.Role, &t.Hash, &t.CreatedAt, &t.CreatedBy,
			&t.RevokedAt); err != nil {
			return nil, fmt.Errorf("read tokens: %w", err)
		}
		out = append(out, t)
	}
	return out, rows.Err()
}

// PutToken adds a token, or its new state, to a batch.
func (b *Batch) PutToken(t Token) {
	b.put(tokensTable, t.ID, t.Name, t.Role, t.Hash, t.CreatedAt, t.CreatedBy, t.RevokedAt)
}

// PutSession adds a console session to a batch and drops those that ended.
func (b *Batch) PutSession(hash []byte, token string, now, expires int64) {
	b.expire(now)
	b.put(cookiesTable, hash, token, expires)
}

// DropSession removes a console session.
func (b *Batch) DropSession(hash []byte) { b.drop(cookiesTable, hash) }

// Session returns the id of the token behind a console session that has not
// ended at now.
func (s *Store) Session(ctx context.Context, hash []byte, now int64) (token string, err error) {
	err = s.read.QueryRowContext(ctx, "SELECT token FROM sessions WHERE hash = ? AND expires_at >= ?", hash,
		now).Scan(&token)
	if errors.Is(err, sql.ErrNoRows) {
		return "", ErrNotFound
	}
	return token, err
}

// DecisionQuery selects entries of decisions, newest first.
type DecisionQuery struct {
	Before                            string // those with a smaller id only; "" for all
	Device, Person, Resource, Outcome string // "" for any
	Gate                              string // that matched; "" for any

	Since, Until int64 // microseconds since the Unix epoch; 0 for no bound
	Limit        int
}

// recent is among how many of the newest decisions it is looked first for those of somebody, who may have many.
const recent = 512

// Decisions reads entries of decisions, newest first.
func (s *Store) Decisions(ctx context.Context, q DecisionQuery) ([]ledger.Entry, error) {
	var where []string
	var args []any
	add := func(clause string, values ...any) { where, args = append(where, clause), append(args, values...) }
	from := "SELECT seq, at, kind, actor, about, body, leaf FROM entries WHERE kind = 'decision.made'"
	if q.Before != "" {
		from += " AND about < ?"
		args = append(args, q.Before)
	}
	var who []string
	if q.Device != "" {
		add(mention.SpeaksOfDevice, q.Device)
		who = append(who, mention.Device(q.Device))
	}
	if q.Person != "" {
		add("json_extract(body, '$.asked.subject.id') = ?", q.Person)
		who = append(who, mention.Person(q.Person))
	}
	for path, want := range map[string]string{"$.asked.resource.id": q.Resource, "$.outcome": q.Outcome} {
		if want != "" {
			add("json_extract(body, ?) = ?", path, want)
		}
	}
	if q.Gate != "" {
		add("EXISTS (SELECT 1 FROM json_each(body, '$.gates') AS g WHERE json_extract(g.value, '$.gate') = ?)", q.Gate)
	}
	if q.Since != 0 {
		add("at >= ?", q.Since)
	}
	if q.Until != 0 {
		add("at < ?", q.Until)
	}
	if len(who) > 0 && q.Limit <= recent {
		found, err := s.decisions(ctx, fmt.Sprintf("SELECT * FROM (%s ORDER BY about DESC LIMIT %d) WHERE true", from,
			recent), where, args, q.Limit)
		if err != nil || len(found) == q.Limit {
			return found, err
		}
	}
	for _, w := range who {
		candidates, of := mention.Candidates(w)
		add("seq IN ("+candidates+")", of...)
	}
	return s.decisions(ctx, from, where, args, q.Limit)
}

func (s *Store) decisions(ctx context.Context, from string, where []string, args []any,
	limit int) ([]ledger.Entry, error) {
	for _, clause := range where {
		from += " AND " + clause
	}
	rows, err := s.read.QueryContext(ctx, from+" ORDER BY about DESC LIMIT ?", append(args, limit)...)
	if err != nil {
		return nil, fmt.Errorf("read decisions: %w", err)
	}
	return scanEntries(rows)
}

// scanEntries reads entries to the end and closes their rows.
func scanEntries(rows *sql.Rows) ([]ledger.Entry, error) {
	var out []ledger.Entry
	err := visitEntries(rows, func(e ledger.Entry) error { out = append(out, e); return nil })
	return out, err
}

// Decision reads the entry of a decision.
func (s *Store) Decision(ctx context.Context, id string) (ledger.Entry, error) {
	e, err := scanEntry(s.read.QueryRowContext(ctx,
		"SELECT seq, at, kind, actor, about, body, leaf FROM entries WHERE about = ? AND kind = 'decision.made'", id).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return e, ErrNotFound
	}
	return e, err
}

// About reads the entries about something, newest first: those before a
// sequence number only, unless it is 0. Decisions and refused evidence are left
// out.
func (s *Store) About(ctx context.Context, about string, before int64, limit int) ([]ledger.Entry, error) {
	if before == 0 {
		before = math.MaxInt64
	}
	rows, err := s.read.QueryContext(ctx, `SELECT seq, at, kind, actor, about, body, leaf FROM entries
		WHERE about = ? AND seq < ? AND kind <> 'decision.made' AND kind <> 'evidence.refused' ORDER BY seq DESC LIMIT ?`, about, before, limit)
	if err != nil {
		return nil, fmt.Errorf("read the history of %s: %w", about, err)
	}
	return scanEntries(rows)
}

// StandingAt reads the newest change of a device's standing by a moment; an
// entry without a body when there is none.
func (s *Store) StandingAt(ctx context.Context, device string, moment int64) (ledger.Entry, error) {
	e, err := scanEntry(s.read.QueryRowContext(ctx, `SELECT seq, at, kind, actor, about, body, leaf FROM entries
		WHERE about = ? AND kind = 'standing.changed' AND kind <> 'decision.made' AND kind <> 'evidence.refused' AND at <= ? ORDER BY seq DESC LIMIT 1`, device, moment).Scan)
	if errors.Is(err, sql.ErrNoRows) {
		return ledger.Entry{}, nil
	}
	return e, err
}

// before returns the sequence number of the last entry before a moment. The
// order of entries is that of time, so it is found by halving.
func (s *Store) before(ctx context.Context, moment int64) (int64, error) {
	first, last := int64(0), int64(0)
	if err := s.read.QueryRowContext(ctx, "SELECT coalesce(max(seq), 0) FROM entries").Scan(&last); err != nil {
		return 0, fmt.Errorf("read entries: %w", err)
	}
	for first < last {
		middle, at := (first+last)/2, int64(0)
		if err := s.read.QueryRowContext(ctx, "SELECT at FROM entries WHERE seq > ? ORDER BY seq LIMIT 1",
			middle).Scan(&at); err != nil {
			return 0, fmt.Errorf("read entries: %w", err)
		}
		if at < moment {
			first = middle + 1
		} else {
			last = middle
		}
	}
	return first, nil
}

// Since visits the entries of a kind since a moment, oldest first, until visit
// returns an error, which it returns. Redacted ones are left out.
func (s *Store) Since(ctx context.Context, kind ledger.Kind, moment int64, visit func(ledger.Entry) error) error {
	first, err := s.before(ctx, moment)
	if err != nil {
		return err
	}
	return s.Behind(ctx, kind, first, moment, visit)
}

// Behind does the same for the entries behind one since a moment, 0 for any.
func (s *Store) Behind(ctx context.Context, kind ledger.Kind, first, moment int64,
	visit func(ledger.Entry) error) error {
	where := "kind = ? AND seq > ? AND at >= ? AND " + present + amongRareKinds(kind)
	rows, err := s.read.QueryContext(ctx,
		"SELECT seq, at, kind, actor, about, body, leaf FROM entries WHERE "+where+" ORDER BY seq",
		string(kind), first, moment)
	if err != nil {
		return fmt.Errorf("read entries: %w", err)
	}
	return visitEntries(rows, visit)
}

// amongRareKinds lets a query for entries of a kind that there are not masses of use their
// index.
func amongRareKinds(kind ledger.Kind) string {
	switch kind {
	case ledger.DecisionMade, ledger.StandingChanged, ledger.EvidenceRefused, ledger.DeviceKeyed:
		return ""
	}
	return " AND kind <> 'decision.made' AND kind <> 'standing.changed' AND kind <> 'evidence.refused' AND " +
		"kind <> 'device.keyed'"
}

// fewDecisions are read by the index.
const fewDecisions = 100

// DecisionsSince visits the decisions since a moment, oldest first, until visit
// returns an error, which it returns. None of them has an id below first.
// Redacted ones are left out.
func (s *Store) DecisionsSince(ctx context.Context, first string, moment int64,
	visit func(ledger.Entry) error) error {
	var newest, decisions int64
	if err := s.read.QueryRowContext(ctx,
		"SELECT (SELECT coalesce(max(seq), 0) FROM entries), (SELECT count(*) FROM entries WHERE kind = "+
			"'decision.made' AND about >= ?)", first).Scan(&newest, &decisions); err != nil {
		return fmt.Errorf("read decisions: %w", err)
	}
	if decisions == 0 {
		return nil
	}
	// One after the other is quicker than by the index, where most are decisions. Of few it
	// is not worth while to find where to begin.
	if decisions > fewDecisions {
		before, err := s.before(ctx, moment)
		if err != nil {
			return err
		}
		if decisions*4 > newest-before {
			return s.Behind(ctx, ledger.DecisionMade, before, moment, visit)
		}
	}
	rows, err := s.read.QueryContext(ctx,
		"SELECT seq, at, kind, actor, about, body, leaf FROM entries WHERE kind = 'decision.made' AND about >= "+
			"? AND at >= ? AND "+present+" ORDER BY about", first, moment)
	if err != nil {
		return fmt.Errorf("read decisions: %w", err)
	}
	return visitEntries(rows, visit)
}

// visitEntries visits entries to the end and closes their rows.
func visitEntries(rows *sql.Rows, visit func(ledger.Entry) error) error {
	defer rows.Close()
	for rows.Next() {
		e, err := scanEntry(rows.Scan)
		if err != nil {
			return err
		}
		if err := visit(e); err != nil {
			return err
		}
	}
	return rows.Err()
}

// ByCode returns the id of the decision that a code was given for.
func (s *Store) ByCode(ctx context.Context, code string) (id string, err error) {
	err = s.read.QueryRowContext(ctx, "SELECT decision FROM codes WHERE code = ?", code).Scan(&id)
	if errors.Is(err, sql.ErrNoRows) {
		return "", ErrNotFound
	}
	return id, err
}

// Bodies visits what the entries of a kind tell of that stand behind one and up to another and are from since a moment,
// and when, oldest first. Those without a body are left out, and none is proved to be the one that was signed. The body is
// the visit's only while it lasts.
func (s *Store) Bodies(ctx context.Context, kind ledger.Kind, behind, last, since int64,
	visit func(at int64, body []byte)) error {
	rows, err := s.read.QueryContext(ctx,
		"SELECT at, body FROM entries WHERE seq > ? AND seq <= ? AND at >= ? AND kind = ? AND "+
			present+amongRareKinds(kind)+" ORDER BY seq", behind, last, since, string(kind))
	if err != nil {
		return fmt.Errorf("read entries: %w", err)
	}
	defer rows.Close()
	var at int64
	var body sql.RawBytes
	for rows.Next() {
		if err := rows.Scan(&at, &body); err != nil {
			return fmt.Errorf("read entries: %w", err)
		}
		visit(at, body)
	}
	return rows.Err()
}

func scanEntry(scan func(...any) error) (ledger.Entry, error) {
	var e ledger.Entry
	var kind, body string
	var leaf []byte
	if err := scan(&e.Seq, &e.At, &kind, &e.Actor, &e.About, &body, &leaf); err != nil {
		return e, fmt.Errorf("read entries: %w", err)
	}
	if e.Kind, e.Archive = ledger.Kind(kind), archiveOf([]byte(body)); !isHere([]byte(body)) {
		return e, nil
	}
	e.Body = json.RawMessage(body)
	if got := ledger.Leaf(e.Append(nil)); !bytes.Equal(got[:], leaf) {
		return e, &TamperError{Message: fmt.Sprintf("entry %d was changed", e.Seq)}
	}
	return e, nil
}

// DecisionCount returns how many decisions there are.
func (s *Store) DecisionCount(ctx context.Context) (n int64, err error) {
	err = s.read.QueryRowContext(ctx, "SELECT count(*) FROM entries WHERE kind = 'decision.made'").Scan(&n)
	return n, err
}

// Ping reports whether the records can be read.
func (s *Store) Ping(ctx context.Context) error {
	var one int
	return s.read.QueryRowContext(ctx, "SELECT 1").Scan(&one)
}
