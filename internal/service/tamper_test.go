package service_test

import (
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"ironledger.example/api"
	"ironledger.example/core/directory"
	"ironledger.example/internal/admin"
	"ironledger.example/internal/bearer"
	"ironledger.example/internal/service"
	"ironledger.example/internal/state"
	"ironledger.example/internal/store"
)

// known is what is known of records before they are altered.
type known struct {
	decision, code string
	moment         int64             // at which d1 stood otherwise
	then           map[string]string // how the devices stood then, by id
}

// past tells how devices stood at a moment, and why that cannot be told.
func past(s *service.Service, moment int64) map[string]string {
	out := map[string]string{}
	for _, id := range []string{"d1", "d2"} {
		if d, err := s.View.DeviceAt(ctx, id, moment); err != nil {
			out[id] = "error"
		} else {
			out[id] = fmt.Sprint(d.Level, len(d.Readings), d.Retired, len(d.Waivers))
		}
	}
	return out
}

// everything makes records in which every table holds something, and returns what
// reads them.
func everything(t *testing.T, dir string) (k known) {
	t.Helper()
	s := open(t, dir)
	publish(t, s, house)
	staff(t, s, "finance")
	report(t, s, "d1", good+`,"serial":"GF-1","owner":"maren"`)
	report(t, s, "d2", good+`,"serial":"GF-2"`)
	time.Sleep(2 * time.Millisecond)
	k.moment = s.Now().UnixMicro()
	time.Sleep(2 * time.Millisecond)
	report(t, s, "d1", `"threat.score":2`)
	must := func(err error) {
		t.Helper()
		if err != nil {
			t.Fatal(err)
		}
	}
	_, err := s.Admin.ImportRoster(ctx, "it", []directory.Hardware{{Serial: "GF-1"}}, admin.ListImport{})
	must(err)
	waive(t, s, "laptop/disk", "2d")
	_, err = service.VouchOne(ctx, s, "desk", api.ExceptionDraft{Device: "d1", Reason: "seen", For: "2d"})
	must(err)
	_, err = s.Admin.Enrol(ctx, "agent", state.Claims{Serial: "HOME-1"}, nil)
	must(err)
	_, err = s.Admin.Retire(ctx, "it", []string{"d2"}, "sold")
	must(err)
	token, _, err := s.Admin.CreateToken(ctx, "admin", "reader", bearer.Reader, "")
	must(err)
	_, err = s.Admin.SignIn(&token)
	must(err)
	if _, ok := permit(t, s, "maren", "d1"); !ok {
		t.Fatal("maren is not let in")
	}
	id, ok := permit(t, s, "nobody", "nowhere")
	if ok {
		t.Fatal("nobody is let in")
	}
	made, err := s.Decisions.Decision(ctx, id)
	must(err)
	for range 260 { // so that there is a tile
		permit(t, s, "nobody", "nowhere")
	}
	k.decision, k.code, k.then = id, made.Code, past(s, k.moment)
	shut(t, s)
	return k
}

func copied(t *testing.T, from string) string {
	t.Helper()
	to := t.TempDir()
	if err := os.CopyFS(to, os.DirFS(from)); err != nil && !errors.Is(err, fs.ErrExist) {
		t.Fatal(err)
	}
	for _, name := range []string{"ledger.key", "signals.keys", "secrets.key"} {
		if err := os.Chmod(filepath.Join(to, name), 0o600); err != nil && !errors.Is(err, fs.ErrNotExist) {
			t.Fatal(err)
		}
	}
	return to
}

// Whatever is altered while nobody writes is found: at the start, or when it is
// read and before it has an effect, and by a verification.
func TestAlterationsWhileItIsDownAreFound(t *testing.T) {
	t.Parallel()
	if service.Rounds(4) < 4 {
		t.Skip("one after the other: the plain run tries them all")
	}
	dir := t.TempDir()
	before := everything(t, dir)
	guarded := store.Guarded()
	tried := 0
	for _, table := range sortedTables(guarded) {
		for _, column := range append(columns(t, dir, table), "", "+") {
			there := copied(t, dir)
			what := table + "." + column
			if what == "tiles.+" || !alter(t, there, table, column) { // nobody reads tiles that the tree does not have
				continue
			}
			tried++
			s, err := service.Open(ctx, service.Options{Dir: there, Log: slog.New(slog.DiscardHandler)})
			var tampered *store.TamperError
			if err != nil {
				named := strings.Contains(err.Error(), table) || table == "entries" || table == "tiles" ||
					table == "head"
				if !errors.As(err, &tampered) && !strings.Contains(err.Error(), "damaged") || !named {
					t.Errorf("%s: the start says %v", what, err)
				}
				continue
			}
			if !slices.Contains([]string{"entries", "tiles", "codes", "device_past"}, table) {
				t.Errorf("%s: the service starts", what)
			}
			if !found(s, table, before) {
				t.Errorf("%s: nothing tells of it", what)
			}
			shut(t, s)
		}
	}
	if tried < 60 {
		t.Errorf("only %d alterations were tried", tried)
	}
}

// found reads what an alteration of a table could change, and reports whether that
// is refused or as it was, or a verification tells of it.
func found(s *service.Service, table string, before known) bool {
	switch table {
	case "codes": // it leads where it did, or nowhere
		made, err := s.Decisions.Decision(ctx, before.code)
		return err != nil || made.ID == before.decision
	case "device_past":
		for id, now := range past(s, before.moment) {
			if now != "error" && now != before.then[id] {
				return false
			}
		}
		return true
	}
	s.Audit.BeginVerification(false)
	for s.Audit.Ledger().Verification.State == "running" {
		time.Sleep(time.Millisecond)
	}
	return s.Audit.Ledger().Verification.State == "broken"
}

func sortedTables(m map[string]string) []string {
	var out []string
	for name := range m {
		out = append(out, name)
	}
	slices.Sort(out)
	return out
}

func columns(t *testing.T, dir, table string) (out []string) {
	t.Helper()
	db, err := sql.Open("sqlite", filepath.Join(dir, "ironledger.db"))
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	rows, err := db.Query("SELECT name FROM pragma_table_info(?)", table)
	if err != nil {
		t.Fatal(err)
	}
	defer rows.Close()
	for rows.Next() {
		var name string
		if err := rows.Scan(&name); err != nil {
			t.Fatal(err)
		}
		out = append(out, name)
	}
	return out
}

// alter changes a column of one row of a table; "" removes a row, "+" adds one. It
// reports false when that cannot be.
func alter(t *testing.T, dir, table, column string) bool {
	t.Helper()
	db, err := sql.Open("sqlite", "file:"+filepath.Join(dir, "ironledger.db")+"?_pragma=foreign_keys(OFF)")
	if err != nil {
		t.Fatal(err)
	}
	defer db.Close()
	list := columns(t, dir, table)
	first := list[0]
	var statement string
	switch column {
	case "":
		statement = "DELETE FROM " + table + " WHERE " + first + " = (SELECT max(" + first + ") FROM " + table + ")"
	case "+":
		changed := slices.Clone(list)
		changed[0] = "CASE typeof(" + first + ") WHEN 'integer' THEN " + first +
			" + 1000 WHEN 'blob' THEN zeroblob(32) ELSE " + first + " || 'x' END"
		for i, c := range changed[1:] {
			if c == "hash" {
				changed[i+1] = "randomblob(32)"
			}
		}
		statement = "INSERT INTO " + table + " SELECT " + strings.Join(changed, ", ") + " FROM " + table +
			" LIMIT 1"
	default:
		statement = "UPDATE " + table + " SET " + column + " = CASE typeof(" + column +
			") WHEN 'integer' THEN " + column + " + 1 WHEN 'blob' THEN randomblob(32)" +
			" ELSE CASE WHEN " + column + " LIKE '%strong%' THEN replace(" + column +
			", 'strong', 'limited') WHEN " + column + " LIKE '{%' THEN '{\"a\":1}' WHEN " + column +
			" LIKE '[%' THEN '[ ]' ELSE " + column + " || 'x' END END WHERE " + first + " = (SELECT min(" +
			first + ") FROM " + table + ")"
	}
	done, err := db.Exec(statement)
	if err != nil { // a constraint of the schema
		return false
	}
	n, err := done.RowsAffected()
	if err != nil {
		t.Fatal(err)
	}
	return n > 0
}
