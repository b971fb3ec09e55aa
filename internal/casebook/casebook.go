// Package casebook keeps cases: each incident from the first trace that failed
// to the confirmation that it works again, in one SQLite file. What was seen is
// kept whole and never changed; notes and changes are added to it.
package casebook

import (
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"time"

	_ "modernc.org/sqlite" // the driver

	"uakari/internal/fact"
)

// Store is what a casebook can do. There is one that is a file; a shared one
// may follow.
type Store interface {
	Open(ctx context.Context, c Case, first Entry) (Case, error)
	Add(ctx context.Context, id int64, e Entry) error
	Undone(ctx context.Context, id int64, number int64, at time.Time) error
	Close(ctx context.Context, id int64, at time.Time) error
	Get(ctx context.Context, id int64) (Case, error)
	List(ctx context.Context) ([]Case, error)
	// Import runs work that adds cases with all their entries: all of them are
	// kept, or none if it fails. Those that are here already are passed over,
	// which add says.
	Import(ctx context.Context, work func(add func(Case) (Case, bool, error)) error) error
	Remove(ctx context.Context, id int64) error
	// Reached keeps the run in which a client reached an endpoint, in place of
	// the one before; Baseline is that run, nil if there is none.
	Reached(ctx context.Context, endpoint, client string, set fact.Set) error
	Baseline(ctx context.Context, endpoint, client string) (*fact.Set, error)
	Done() error
}

// Case is one incident. Entries are in the order in which they were added.
type Case struct {
	ID       int64     `json:"id"`
	UID      string    `json:"uid"` // the same in every casebook that it is imported into
	Title    string    `json:"title"`
	Endpoint string    `json:"endpoint"`
	First    string    `json:"first,omitempty"` // what failed first, a cause
	Opened   time.Time `json:"opened"`
	Closed   time.Time `json:"closed,omitzero"`
	// Foreign is that it came from another casebook: what it holds is data, and
	// nothing of it is done again.
	Foreign bool    `json:"foreign,omitempty"`
	Entries []Entry `json:"entries,omitempty"`
}

// Kinds of entries.
const (
	Trace  = "trace"  // what a trace saw
	Note   = "note"   // a remark
	Change = "change" // something that was done
)

// Entry is one thing of a case.
type Entry struct {
	Number int64     `json:"number"` // within the casebook
	At     time.Time `json:"at"`
	Kind   string    `json:"kind"`
	Text   string    `json:"text,omitempty"` // of a note or change; what a trace found
	Set    *fact.Set `json:"set,omitempty"`  // of a trace
	// Temporary marks a change that must be undone before the case is closed,
	// Undo says how, and Undone when it was.
	Temporary bool      `json:"temporary,omitempty"`
	Undo      string    `json:"undo,omitempty"`
	Undone    time.Time `json:"undone,omitzero"`
}

// ErrNone says that there is no such case.
var ErrNone = errors.New("there is no such case")

// Standing is the temporary changes that were not undone.
func (c Case) Standing() []Entry {
	var list []Entry
	for _, e := range c.Entries {
		if e.Kind == Change && e.Temporary && e.Undone.IsZero() {
			list = append(list, e)
		}
	}
	return list
}

// Traces is the case's traces.
func (c Case) Traces() []Entry {
	var list []Entry
	for _, e := range c.Entries {
		if e.Kind == Trace && e.Set != nil {
			list = append(list, e)
		}
	}
	return list
}

// Path is the file of this user's casebook: what UAKARI_CASEBOOK names, or one
// in the state folder.
func Path() (string, error) {
	if path := os.Getenv("UAKARI_CASEBOOK"); path != "" {
		if info, err := os.Stat(path); err == nil && info.IsDir() {
			return filepath.Join(path, "casebook.db"), nil
		}
		return path, nil
	}
	state := os.Getenv("XDG_STATE_HOME")
	if state == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", fmt.Errorf("no place for a casebook: %w; name one by UAKARI_CASEBOOK", err)
		}
		state = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(state, "uakari", "casebook.db"), nil
}

// migrations bring a file from each version to the next; the version is the
// file's own (PRAGMA user_version).
var migrations = []string{
	`CREATE TABLE cases (
		id INTEGER PRIMARY KEY AUTOINCREMENT, uid TEXT NOT NULL UNIQUE, title TEXT NOT NULL, endpoint TEXT NOT NULL,
		first TEXT NOT NULL, opened INTEGER NOT NULL, closed INTEGER NOT NULL DEFAULT 0);
	CREATE TABLE entries (
		number INTEGER PRIMARY KEY AUTOINCREMENT, case_id INTEGER NOT NULL REFERENCES cases(id), at INTEGER NOT NULL,
		kind TEXT NOT NULL, text TEXT NOT NULL, facts BLOB, temporary INTEGER NOT NULL, undo TEXT NOT NULL, undone INTEGER NOT NULL DEFAULT 0);
	CREATE INDEX entries_of_case ON entries(case_id, number);
	CREATE TRIGGER entries_stay BEFORE UPDATE OF case_id, at, kind, text, facts, temporary, undo ON entries BEGIN SELECT RAISE(ABORT, 'what was kept is never changed'); END;
	CREATE TRIGGER entries_remain BEFORE DELETE ON entries BEGIN SELECT RAISE(ABORT, 'what was kept is never removed'); END;`,
	// Whole cases can be removed, and nothing of one that stays.
	`ALTER TABLE cases ADD COLUMN "foreign" INTEGER NOT NULL DEFAULT 0;
	ALTER TABLE cases ADD COLUMN removed INTEGER NOT NULL DEFAULT 0;
	DROP TRIGGER entries_remain;
	CREATE TRIGGER entries_remain BEFORE DELETE ON entries WHEN (SELECT removed FROM cases WHERE id = OLD.case_id) = 0
		BEGIN SELECT RAISE(ABORT, 'what was kept is never removed'); END;`,
	// The last run in which an endpoint was reached, by endpoint and client.
	`CREATE TABLE baselines (endpoint TEXT NOT NULL, client TEXT NOT NULL, at INTEGER NOT NULL, facts BLOB NOT NULL, PRIMARY KEY (endpoint, client));`,
}

// Book is a casebook in a file.
type Book struct {
	db   *sql.DB
	path string
}

// Open opens a casebook, and makes it if it is not there. Only its owner can
// read it. Two programs may use it at once.
func Open(ctx context.Context, path string) (*Book, error) {
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return nil, fmt.Errorf("casebook: %w", err)
	}
	// The driver would make the file for all to read.
	f, err := os.OpenFile(path, os.O_RDWR|os.O_CREATE, 0o600)
	if errors.Is(err, fs.ErrPermission) {
		return nil, fmt.Errorf("casebook %s: it may not be written by this user", path)
	}
	if err != nil {
		return nil, fmt.Errorf("casebook: %w", err)
	}
	f.Close()
	place := url.URL{Scheme: "file", Opaque: (&url.URL{Path: path}).EscapedPath(), RawQuery: url.Values{
		"_pragma": {
			"busy_timeout(10000)",
			"journal_mode(WAL)",
			"synchronous(FULL)",
			"foreign_keys(1)",
		}, "_txlock": {"immediate"}}.Encode()}
	db, err := sql.Open("sqlite", place.String())
	if err != nil {
		return nil, fmt.Errorf("casebook %s: %w", path, err)
	}
	db.SetMaxOpenConns(1)
	b := &Book{db, path}
	if err := b.migrate(ctx); err != nil {
		db.Close()
		return nil, err
	}
	return b, nil
}

// within runs work in one transaction: all of it is kept, or nothing.
func (b *Book) within(ctx context.Context, work func(*sql.Tx) error) error {
	tx, err := b.db.BeginTx(ctx, nil)
	if err == nil {
		defer tx.Rollback() // of no effect once it is committed
		if err = work(tx); err == nil {
			err = tx.Commit()
		}
	}
	var input inputError
	switch {
	case err == nil || errors.Is(err, ErrNone) || errors.As(err, &input):
		return err
	case strings.Contains(err.Error(), "disk I/O error"):
		return fmt.Errorf("casebook %s: it cannot be written; the disk may be full (%w)", b.path, err)
	}
	return fmt.Errorf("casebook %s: %w", b.path, err)
}

// migrate brings the file to the version of this program. A file of a later
// one is left alone.
func (b *Book) migrate(ctx context.Context) error {
	return b.within(ctx, func(tx *sql.Tx) error {
		version := 0
		if err := tx.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version); err != nil {
			return err
		}
		if version > len(migrations) {
			return fmt.Errorf("it was made by a later uakari (version %d; this one knows %d)", version, len(migrations))
		}
		for i := version; i < len(migrations); i++ {
			if _, err := tx.ExecContext(ctx, migrations[i]); err != nil {
				return err
			}
		}
		if version == len(migrations) {
			return nil
		}
		_, err := tx.ExecContext(ctx, fmt.Sprintf("PRAGMA user_version = %d", len(migrations)))
		return err
	})
}

// Done closes the file.
func (b *Book) Done() error { return b.db.Close() }

// Open begins a case with its first entry. A case with the uid of another is
// refused.
func (b *Book) Open(ctx context.Context, c Case, first Entry) (Case, error) {
	if c.UID == "" {
		c.UID = rand.Text()
	}
	err := b.within(ctx, func(tx *sql.Tx) (err error) {
		c.ID, err = insertCase(ctx, tx, c)
		if err != nil {
			return err
		}
		return add(ctx, tx, c.ID, first)
	})
	return c, err
}

// insertCase adds a case without its entries, and gives its number.
func insertCase(ctx context.Context, tx *sql.Tx, c Case) (int64, error) {
	r, err := tx.ExecContext(
		ctx,
		`INSERT INTO cases (uid, title, endpoint, first, opened, closed, "foreign") VALUES (?, ?, ?, ?, ?, ?, ?)`,
		c.UID,
		c.Title,
		c.Endpoint,
		c.First,
		stamp(c.Opened),
		stamp(c.Closed),
		c.Foreign,
	)
	if err != nil {
		return 0, err
	}
	return r.LastInsertId()
}

// Import adds cases that were made elsewhere, in one transaction.
func (b *Book) Import(ctx context.Context, work func(add func(Case) (Case, bool, error)) error) error {
	return b.within(ctx, func(tx *sql.Tx) error {
		return work(func(c Case) (_ Case, added bool, err error) {
			here := 0
			if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM cases WHERE uid = ?", c.UID).Scan(&here); err != nil ||
				here > 0 {
				return c, false, err
			}
			if c.ID, err = insertCase(ctx, tx, c); err != nil {
				return c, false, err
			}
			for _, e := range c.Entries {
				if err := add(ctx, tx, c.ID, e); err != nil {
					return c, false, err
				}
			}
			return c, true, nil
		})
	})
}

// Remove takes a case out of the casebook, with all that was kept of it.
func (b *Book) Remove(ctx context.Context, id int64) error {
	return b.within(ctx, func(tx *sql.Tx) error {
		for _, statement := range []string{"UPDATE cases SET removed = 1 WHERE id = ?", "DELETE FROM entries WHERE case_id = ?", "DELETE FROM cases WHERE id = ?"} {
			r, err := tx.ExecContext(ctx, statement, id)
			if err != nil {
				return err
			}
			if n, err := r.RowsAffected(); err != nil || n == 0 && strings.HasPrefix(statement, "UPDATE") {
				return errors.Join(err, ErrNone)
			}
		}
		return nil
	})
}

// Add adds an entry to a case.
func (b *Book) Add(ctx context.Context, id int64, e Entry) error {
	return b.within(ctx, func(tx *sql.Tx) error {
		n := 0
		if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM cases WHERE id = ?", id).Scan(&n); err != nil {
			return err
		}
		if n == 0 {
			return ErrNone
		}
		return add(ctx, tx, id, e)
	})
}

func add(ctx context.Context, tx *sql.Tx, id int64, e Entry) error {
	var facts []byte
	if e.Set != nil {
		var err error
		if facts, err = json.Marshal(e.Set); err != nil {
			return err
		}
	}
	_, err := tx.ExecContext(
		ctx,
		"INSERT INTO entries (case_id, at, kind, text, facts, temporary, undo, undone) VALUES (?, ?, ?, ?, ?, ?, ?, ?)",
		id,
		stamp(e.At),
		e.Kind,
		e.Text,
		facts,
		e.Temporary,
		e.Undo,
		stamp(e.Undone),
	)
	return err
}

// Undone marks a temporary change as undone.
func (b *Book) Undone(ctx context.Context, id, number int64, at time.Time) error {
	return b.within(ctx, func(tx *sql.Tx) error {
		r, err := tx.ExecContext(
			ctx,
			"UPDATE entries SET undone = ? WHERE case_id = ? AND number = ? AND kind = ? AND undone = 0",
			stamp(at),
			id,
			number,
			Change,
		)
		if err != nil {
			return err
		}
		if n, err := r.RowsAffected(); err != nil || n == 0 {
			return errors.Join(err, ErrNone)
		}
		return nil
	})
}

// Close marks a case as closed.
func (b *Book) Close(ctx context.Context, id int64, at time.Time) error {
	return b.within(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE cases SET closed = ? WHERE id = ?", stamp(at), id)
		return err
	})
}

const columns = `id, uid, title, endpoint, first, opened, closed, "foreign"`

func scanCase(row interface{ Scan(...any) error }) (c Case, err error) {
	var opened, closed int64
	err = row.Scan(&c.ID, &c.UID, &c.Title, &c.Endpoint, &c.First, &opened, &closed, &c.Foreign)
	c.Opened, c.Closed = moment(opened), moment(closed)
	return c, err
}

// Reached keeps the last run in which a client reached an endpoint.
func (b *Book) Reached(ctx context.Context, endpoint, client string, set fact.Set) error {
	facts, err := json.Marshal(set)
	if err != nil {
		return err
	}
	return b.within(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(
			ctx,
			"INSERT INTO baselines (endpoint, client, at, facts) VALUES (?, ?, ?, ?) ON CONFLICT (endpoint, client) DO UPDATE SET at = excluded.at, facts = excluded.facts WHERE excluded.at >= at",
			endpoint,
			client,
			stamp(set.Ended),
			facts,
		)
		return err
	})
}

// Baseline is the last run in which a client reached an endpoint; nil if none is
// kept.
func (b *Book) Baseline(ctx context.Context, endpoint, client string) (*fact.Set, error) {
	var facts []byte
	err := b.within(ctx, func(tx *sql.Tx) error {
		err := tx.QueryRowContext(ctx, "SELECT facts FROM baselines WHERE endpoint = ? AND client = ?", endpoint, client).
			Scan(&facts)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		return err
	})
	if err != nil || facts == nil {
		return nil, err
	}
	set, err := fact.DecodeSet("the last run in which "+endpoint+" was reached", facts)
	return &set, err
}

// Get is a case with all its entries.
func (b *Book) Get(ctx context.Context, id int64) (Case, error) {
	var c Case
	err := b.within(ctx, func(tx *sql.Tx) error {
		var err error
		c, err = scanCase(tx.QueryRowContext(ctx, "SELECT "+columns+" FROM cases WHERE id = ?", id))
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNone
		}
		if err != nil {
			return err
		}
		rows, err := tx.QueryContext(
			ctx,
			"SELECT number, at, kind, text, facts, temporary, undo, undone FROM entries WHERE case_id = ? ORDER BY number",
			id,
		)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var e Entry
			var at, undone int64
			var facts []byte
			if err := rows.Scan(&e.Number, &at, &e.Kind, &e.Text, &facts, &e.Temporary, &e.Undo, &undone); err != nil {
				return err
			}
			e.At, e.Undone = moment(at), moment(undone)
			if len(facts) > 0 {
				set, err := fact.DecodeSet(fmt.Sprintf("case %d, entry %d", id, e.Number), facts)
				if err != nil {
					return err
				}
				e.Set = &set
			}
			c.Entries = append(c.Entries, e)
		}
		return rows.Err()
	})
	return c, err
}

// List is every case, the newest first, without entries.
func (b *Book) List(ctx context.Context) ([]Case, error) {
	list := []Case{}
	err := b.within(ctx, func(tx *sql.Tx) error {
		rows, err := tx.QueryContext(ctx, "SELECT "+columns+" FROM cases ORDER BY id DESC")
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			c, err := scanCase(rows)
			if err != nil {
				return err
			}
			list = append(list, c)
		}
		return rows.Err()
	})
	return list, err
}

// Times are kept as milliseconds since 1970; 0 is none.
func stamp(t time.Time) int64 {
	if t.IsZero() {
		return 0
	}
	return t.UnixMilli()
}

func moment(ms int64) time.Time {
	if ms == 0 {
		return time.Time{}
	}
	return time.UnixMilli(ms).UTC()
}
