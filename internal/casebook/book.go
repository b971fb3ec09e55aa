package casebook

import (
	"context"
	"crypto/rand"
	"database/sql"
	"errors"
	"fmt"
	"strings"
	"time"

	"uakari/internal/fact"
)

// Book is a casebook in a database. Its statements are those that both SQLite and
// PostgreSQL know.
type Book struct {
	db   *sql.DB
	path string // as it is told: without a secret
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
	case Shared(b.path):
		return fmt.Errorf("casebook %s: %w", b.path, sharedError(err))
	case strings.Contains(err.Error(), "disk I/O error"):
		return fmt.Errorf("casebook %s: it cannot be written; the disk may be full (%w)", b.path, err)
	}
	return fmt.Errorf("casebook %s: %w", b.path, err)
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
	id := int64(0)
	err := tx.QueryRowContext(
		ctx,
		`INSERT INTO cases (uid, title, endpoint, first, opened, closed, "foreign", taken, taken_at)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9) RETURNING id`,
		c.UID,
		c.Title,
		c.Endpoint,
		c.First,
		stamp(c.Opened),
		stamp(c.Closed),
		c.Foreign,
		c.Taken,
		stamp(c.TakenAt),
	).Scan(&id)
	return id, err
}

// Import adds cases that were made elsewhere, in one transaction.
func (b *Book) Import(ctx context.Context, work func(add func(Case) (Case, bool, error)) error) error {
	return b.within(ctx, func(tx *sql.Tx) error {
		return work(func(c Case) (_ Case, added bool, err error) {
			here := 0
			if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM cases WHERE uid = $1",
				c.UID).Scan(&here); err != nil ||
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
		for _, statement := range []string{"UPDATE cases SET removed = TRUE WHERE id = $1",
			"DELETE FROM entries WHERE case_id = $1", "DELETE FROM cases WHERE id = $1"} {
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
		if err := tx.QueryRowContext(ctx, "SELECT count(*) FROM cases WHERE id = $1", id).Scan(&n); err != nil {
			return err
		}
		if n == 0 {
			return ErrNone
		}
		return add(ctx, tx, id, e)
	})
}

// add keeps an entry. One that was handed in before is not kept again.
func add(ctx context.Context, tx *sql.Tx, id int64, e Entry) error {
	facts, err := packed(e.Set)
	if err != nil {
		return err
	}
	_, err = tx.ExecContext(
		ctx,
		`INSERT INTO entries (case_id, at, kind, text, facts, temporary, undo, undone, author, uid)
		VALUES ($1, $2, $3, $4, $5, $6, $7, $8, $9, $10) ON CONFLICT (uid) DO NOTHING`,
		id,
		stamp(e.At),
		e.Kind,
		text(e.Text),
		facts,
		e.Temporary,
		text(e.Undo),
		stamp(e.Undone),
		text(e.By),
		sql.NullString{String: e.UID, Valid: e.UID != ""},
	)
	return err
}

// text is text as any database takes it: PostgreSQL refuses NUL and what is no
// UTF-8.
func text(s string) string { return strings.ToValidUTF8(strings.ReplaceAll(s, "\x00", ""), "\uFFFD") }

// Undone marks a temporary change as undone.
func (b *Book) Undone(ctx context.Context, id, number int64, at time.Time) error {
	return b.within(ctx, func(tx *sql.Tx) error {
		return one(tx.ExecContext(
			ctx,
			"UPDATE entries SET undone = $1 WHERE case_id = $2 AND number = $3 AND kind = $4 AND undone = 0",
			stamp(at),
			id,
			number,
			Change,
		))
	})
}

// Close marks a case as closed.
func (b *Book) Close(ctx context.Context, id int64, at time.Time) error {
	return b.within(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(ctx, "UPDATE cases SET closed = $1 WHERE id = $2", stamp(at), id)
		return err
	})
}

// Take says who works on a case.
func (b *Book) Take(ctx context.Context, id int64, who string, at time.Time) error {
	return b.within(ctx, func(tx *sql.Tx) error {
		if who == "" {
			at = time.Time{}
		}
		return one(tx.ExecContext(ctx, "UPDATE cases SET taken = $1, taken_at = $2 WHERE id = $3", text(who),
			stamp(at), id))
	})
}

// one is ErrNone for a statement that changed nothing.
func one(r sql.Result, err error) error {
	if err != nil {
		return err
	}
	if n, err := r.RowsAffected(); err != nil || n == 0 {
		return errors.Join(err, ErrNone)
	}
	return nil
}

// Prune removes cases that were closed before a time, but for so many of the newest closed
// ones, and the runs before it in which endpoints were reached.
func (b *Book) Prune(ctx context.Context, before time.Time, newest int) (count int, err error) {
	const old = `closed > 0 AND closed < $1 AND id NOT IN
		(SELECT id FROM cases WHERE closed > 0 ORDER BY id DESC LIMIT $2)`
	err = b.within(ctx, func(tx *sql.Tx) error {
		if _, err := tx.ExecContext(ctx, "DELETE FROM baselines WHERE at < $1", stamp(before)); err != nil {
			return err
		}
		_, err := tx.ExecContext(ctx, "UPDATE cases SET removed = TRUE WHERE "+old, stamp(before), newest)
		if err != nil {
			return err
		}
		for _, statement := range []string{
			"DELETE FROM entries WHERE case_id IN (SELECT id FROM cases WHERE removed = TRUE)",
			"DELETE FROM cases WHERE removed = TRUE",
		} {
			r, err := tx.ExecContext(ctx, statement)
			if err != nil {
				return err
			}
			n, err := r.RowsAffected()
			if err != nil {
				return err
			}
			count = int(n) // of the last one, which are the cases
		}
		return nil
	})
	return count, err
}

// said finds words in what a case says, but for what was seen.
const said = `(lower(title) LIKE $%[1]d ESCAPE '\' OR lower(endpoint) LIKE $%[1]d ESCAPE '\' OR
	lower(first) LIKE $%[1]d ESCAPE '\' OR
	id IN (SELECT case_id FROM entries WHERE lower(text) LIKE $%[1]d ESCAPE '\'))`

// question is the part of a statement that finds what is wanted, and its values.
func (w Wanted) question() (where string, values []any) {
	var parts []string
	add := func(part string, value any) {
		values = append(values, value)
		parts = append(parts, fmt.Sprintf(part, len(values)))
	}
	if w.Open {
		parts = append(parts, "closed = 0")
	}
	for _, is := range []struct{ part, value string }{
		{"taken = $%d", w.Taken}, {"endpoint = $%d", w.Endpoint}, {"first = $%d", w.First},
	} {
		if is.value != "" {
			add(is.part, text(is.value))
		}
	}
	for _, has := range []struct{ part, value string }{
		{`endpoint LIKE $%d ESCAPE '\'`, w.Part}, {`first LIKE $%d ESCAPE '\'`, w.Cause},
		{said, strings.ToLower(w.Words)},
	} {
		if has.value != "" {
			add(has.part, "%"+strings.NewReplacer(`\`, `\`, "%", `\%`, "_", `\_`).Replace(text(has.value))+"%")
		}
	}
	if w.Before > 0 {
		add("id < $%d", w.Before)
	}
	if len(parts) > 0 {
		where = " WHERE " + strings.Join(parts, " AND ")
	}
	where += " ORDER BY id DESC"
	if w.Most > 0 {
		where += fmt.Sprintf(" LIMIT %d", w.Most)
	}
	return where, values
}

const columns = `id, uid, title, endpoint, first, opened, closed, "foreign", taken, taken_at`

func scanCase(row interface{ Scan(...any) error }) (c Case, err error) {
	var opened, closed, taken int64
	err = row.Scan(&c.ID, &c.UID, &c.Title, &c.Endpoint, &c.First, &opened, &closed, &c.Foreign, &c.Taken, &taken)
	c.Opened, c.Closed, c.TakenAt = moment(opened), moment(closed), moment(taken)
	return c, err
}

// Reached keeps the last run in which a client reached an endpoint.
func (b *Book) Reached(ctx context.Context, endpoint, client string, set fact.Set) error {
	facts, err := packed(&set)
	if err != nil {
		return err
	}
	return b.within(ctx, func(tx *sql.Tx) error {
		_, err := tx.ExecContext(
			ctx,
			"INSERT INTO baselines (endpoint, client, at, facts) VALUES ($1, $2, $3, $4) ON CONFLICT (endpoint, "+
				"client) DO UPDATE SET at = excluded.at, facts = excluded.facts WHERE excluded.at >= baselines.at",
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
		err := tx.QueryRowContext(ctx, "SELECT facts FROM baselines WHERE endpoint = $1 AND client = $2", endpoint,
			client).
			Scan(&facts)
		if errors.Is(err, sql.ErrNoRows) {
			return nil
		}
		return err
	})
	if err != nil || facts == nil {
		return nil, err
	}
	return unpacked("the last run in which "+endpoint+" was reached", facts)
}

// Get is a case with all its entries.
func (b *Book) Get(ctx context.Context, id int64) (Case, error) {
	var c Case
	err := b.within(ctx, func(tx *sql.Tx) error {
		var err error
		c, err = scanCase(tx.QueryRowContext(ctx, "SELECT "+columns+" FROM cases WHERE id = $1", id))
		c.Foreign = c.Foreign || Shared(b.path) // others write there too
		if errors.Is(err, sql.ErrNoRows) {
			return ErrNone
		}
		if err != nil {
			return err
		}
		rows, err := tx.QueryContext(
			ctx,
			"SELECT number, at, kind, text, facts, temporary, undo, undone, author, coalesce(uid, '') FROM entries "+
				"WHERE case_id = $1 ORDER BY number",
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
			err := rows.Scan(&e.Number, &at, &e.Kind, &e.Text, &facts, &e.Temporary, &e.Undo, &undone, &e.By, &e.UID)
			if err != nil {
				return err
			}
			e.At, e.Undone = moment(at), moment(undone)
			if len(facts) > 0 {
				if e.Set, err = unpacked(fmt.Sprintf("case %d, entry %d", id, e.Number), facts); err != nil {
					return err
				}
			}
			c.Entries = append(c.Entries, e)
		}
		return rows.Err()
	})
	return c, err
}

// List is the cases that are wanted, the newest first, without entries.
func (b *Book) List(ctx context.Context, w Wanted) ([]Case, error) {
	list := []Case{}
	where, values := w.question()
	err := b.within(ctx, func(tx *sql.Tx) error {
		rows, err := tx.QueryContext(ctx, "SELECT "+columns+" FROM cases"+where, values...)
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
