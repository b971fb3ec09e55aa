package casebook

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"

	"uakari/internal/owned"

	_ "modernc.org/sqlite" // the driver
)

// migrations bring a file from each version to the next; the version is the
// file's own (PRAGMA user_version).
var migrations = []string{
	`CREATE TABLE cases (
		id INTEGER PRIMARY KEY AUTOINCREMENT, uid TEXT NOT NULL UNIQUE, title TEXT NOT NULL, endpoint TEXT NOT NULL,
		first TEXT NOT NULL, opened INTEGER NOT NULL, closed INTEGER NOT NULL DEFAULT 0);
	CREATE TABLE entries (
		number INTEGER PRIMARY KEY AUTOINCREMENT, case_id INTEGER NOT NULL REFERENCES cases(id), at INTEGER NOT NULL,
		kind TEXT NOT NULL, text TEXT NOT NULL, facts BLOB, temporary INTEGER NOT NULL, undo TEXT NOT NULL,
		undone INTEGER NOT NULL DEFAULT 0);
	CREATE INDEX entries_of_case ON entries(case_id, number);
	CREATE TRIGGER entries_stay BEFORE UPDATE OF case_id, at, kind, text, facts, temporary, undo ON entries
		BEGIN SELECT RAISE(ABORT, 'what was kept is never changed'); END;
	CREATE TRIGGER entries_remain BEFORE DELETE ON entries
		BEGIN SELECT RAISE(ABORT, 'what was kept is never removed'); END;`,
	// Whole cases can be removed, and nothing of one that stays.
	`ALTER TABLE cases ADD COLUMN "foreign" INTEGER NOT NULL DEFAULT 0;
	ALTER TABLE cases ADD COLUMN removed INTEGER NOT NULL DEFAULT 0;
	DROP TRIGGER entries_remain;
	CREATE TRIGGER entries_remain BEFORE DELETE ON entries WHEN (SELECT removed FROM cases WHERE id = OLD.case_id) = 0
		BEGIN SELECT RAISE(ABORT, 'what was kept is never removed'); END;`,
	// The last run in which an endpoint was reached, by endpoint and client.
	`CREATE TABLE baselines (endpoint TEXT NOT NULL, client TEXT NOT NULL, at INTEGER NOT NULL, facts BLOB NOT NULL,
		PRIMARY KEY (endpoint, client));`,
	// Who works on a case, who wrote an entry, and what may be handed in twice.
	`ALTER TABLE cases ADD COLUMN taken TEXT NOT NULL DEFAULT '';
	ALTER TABLE cases ADD COLUMN taken_at INTEGER NOT NULL DEFAULT 0;
	ALTER TABLE entries ADD COLUMN author TEXT NOT NULL DEFAULT '';
	ALTER TABLE entries ADD COLUMN uid TEXT;
	CREATE UNIQUE INDEX entries_once ON entries(uid);`,
	// A casebook of many cases is asked for those of one endpoint, one cause, or those that are open.
	caseIndexes,
}

// caseIndexes lets few of many cases be found.
const caseIndexes = `CREATE INDEX IF NOT EXISTS cases_of_endpoint ON cases(endpoint, closed, id);
	CREATE INDEX IF NOT EXISTS cases_like_it ON cases(endpoint, first, id);
	CREATE INDEX IF NOT EXISTS cases_of_cause ON cases(first, id);
	CREATE INDEX IF NOT EXISTS cases_closed ON cases(closed, id);`

// openFile opens a casebook in a file, and makes it if it is not there. Only its owner can
// read it. Two programs may use it at once.
func openFile(ctx context.Context, path string) (*Book, error) {
	if err := owned.Folder(filepath.Dir(path)); err != nil {
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
	if err := owned.Only(path); err != nil {
		return nil, fmt.Errorf("casebook: %w", err)
	}
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
	if err := b.migrateFile(ctx); err != nil {
		db.Close()
		return nil, err
	}
	return b, nil
}

// migrateFile brings the file to the version of this program. A file of a later
// one is left alone.
func (b *Book) migrateFile(ctx context.Context) error {
	return b.within(ctx, func(tx *sql.Tx) error {
		version := 0
		if err := tx.QueryRowContext(ctx, "PRAGMA user_version").Scan(&version); err != nil {
			return err
		}
		if version > len(migrations) {
			return later(version, len(migrations))
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

// later is the error of a casebook that this program is too old for.
func later(version, known int) error {
	return fmt.Errorf("it was made by a later uakari (version %d; this one knows %d)", version, known)
}
