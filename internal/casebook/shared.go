package casebook

import (
	"context"
	"database/sql"
	"database/sql/driver"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"net/url"
	"os"
	"strings"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
	"github.com/jackc/pgx/v5/stdlib"
)

// sharedMigrations bring a database from each version to the next. Everything is
// in a schema of its own.
var sharedMigrations = []string{
	`CREATE SCHEMA IF NOT EXISTS uakari;
	CREATE TABLE uakari.version (version INTEGER NOT NULL);
	INSERT INTO uakari.version VALUES (0);
	CREATE TABLE uakari.cases (
		id BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY, uid TEXT NOT NULL UNIQUE, title TEXT NOT NULL,
		endpoint TEXT NOT NULL, first TEXT NOT NULL, opened BIGINT NOT NULL, closed BIGINT NOT NULL DEFAULT 0,
		"foreign" BOOLEAN NOT NULL DEFAULT FALSE, removed BOOLEAN NOT NULL DEFAULT FALSE);
	CREATE TABLE uakari.entries (
		number BIGINT GENERATED ALWAYS AS IDENTITY PRIMARY KEY, case_id BIGINT NOT NULL REFERENCES uakari.cases(id),
		at BIGINT NOT NULL, kind TEXT NOT NULL, text TEXT NOT NULL, facts BYTEA, temporary BOOLEAN NOT NULL,
		undo TEXT NOT NULL, undone BIGINT NOT NULL DEFAULT 0);
	CREATE INDEX entries_of_case ON uakari.entries(case_id, number);
	CREATE TABLE uakari.baselines (
		endpoint TEXT NOT NULL, client TEXT NOT NULL, at BIGINT NOT NULL, facts BYTEA NOT NULL,
		PRIMARY KEY (endpoint, client));
	CREATE FUNCTION uakari.stays() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
		IF TG_OP = 'DELETE' THEN
			IF NOT (SELECT removed FROM uakari.cases WHERE id = OLD.case_id) THEN
				RAISE EXCEPTION 'what was kept is never removed';
			END IF;
			RETURN OLD;
		END IF;
		IF ROW(NEW.number, NEW.case_id, NEW.at, NEW.kind, NEW.text, NEW.facts, NEW.temporary, NEW.undo)
			IS DISTINCT FROM
			ROW(OLD.number, OLD.case_id, OLD.at, OLD.kind, OLD.text, OLD.facts, OLD.temporary, OLD.undo) THEN
			RAISE EXCEPTION 'what was kept is never changed';
		END IF;
		RETURN NEW;
	END $$;
	CREATE TRIGGER entries_stay BEFORE UPDATE OR DELETE ON uakari.entries FOR EACH ROW
		EXECUTE FUNCTION uakari.stays();`,
	// Who works on a case, who wrote an entry, and what may be handed in twice.
	`ALTER TABLE uakari.cases ADD COLUMN taken TEXT NOT NULL DEFAULT '', ADD COLUMN taken_at BIGINT NOT NULL DEFAULT 0;
	ALTER TABLE uakari.entries ADD COLUMN author TEXT NOT NULL DEFAULT '', ADD COLUMN uid TEXT;
	CREATE UNIQUE INDEX entries_once ON uakari.entries(uid);`,
	// The database says who wrote an entry, whatever a program claims, and neither that nor
	// its number is changed later.
	`CREATE OR REPLACE FUNCTION uakari.stays() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
		IF TG_OP = 'DELETE' THEN
			IF NOT (SELECT removed FROM uakari.cases WHERE id = OLD.case_id) THEN
				RAISE EXCEPTION 'what was kept is never removed';
			END IF;
			RETURN OLD;
		END IF;
		IF ROW(NEW.number, NEW.case_id, NEW.at, NEW.kind, NEW.text, NEW.facts, NEW.temporary, NEW.undo, NEW.author,
			NEW.uid) IS DISTINCT FROM
			ROW(OLD.number, OLD.case_id, OLD.at, OLD.kind, OLD.text, OLD.facts, OLD.temporary, OLD.undo, OLD.author,
			OLD.uid) THEN
			RAISE EXCEPTION 'what was kept is never changed';
		END IF;
		RETURN NEW;
	END $$;
	CREATE OR REPLACE FUNCTION uakari.signs() RETURNS trigger LANGUAGE plpgsql AS $$ BEGIN
		NEW.author := CASE WHEN NEW.author IN ('', session_user) THEN session_user::text
			ELSE session_user || ' (' || NEW.author || ')' END;
		RETURN NEW;
	END $$;
	DROP TRIGGER IF EXISTS entries_signed ON uakari.entries;
	CREATE TRIGGER entries_signed BEFORE INSERT ON uakari.entries FOR EACH ROW EXECUTE FUNCTION uakari.signs();`,
	strings.ReplaceAll(caseIndexes, "ON cases", "ON uakari.cases"),
}

// Rights is the statements that let a role read a shared casebook, and write it: who
// writes adds cases and entries, and changes or removes none of others.
// Whoever made the casebook, or administers the database, runs them.
func Rights(role string, write bool) []string {
	name := pgx.Identifier{role}.Sanitize()
	list := []string{
		"REVOKE ALL ON ALL TABLES IN SCHEMA uakari FROM " + name + ";", // what an earlier version granted
		"GRANT USAGE ON SCHEMA uakari TO " + name + ";",
		"GRANT SELECT ON ALL TABLES IN SCHEMA uakari TO " + name + ";",
	}
	if write {
		list = append(
			list,
			"GRANT INSERT ON uakari.cases, uakari.entries TO "+name+";",
			"GRANT UPDATE (closed, taken, taken_at) ON uakari.cases TO "+name+";",
			"GRANT UPDATE (undone) ON uakari.entries TO "+name+";",
			"GRANT INSERT, UPDATE ON uakari.baselines TO "+name+";",
		)
	}
	return list
}

// answerWait bounds the connecting to a database, so that a trace is told soon
// where there is none.
const answerWait = 3 * time.Second

// openShared opens a casebook in a PostgreSQL database, and makes it there if it is
// not. The server's certificate is verified, name and all, unless it is on this
// host.
func openShared(ctx context.Context, place string) (*Book, error) {
	u, err := url.Parse(place)
	if err != nil {
		return nil, errors.New("casebook: UAKARI_CASEBOOK is no address; expected " +
			"postgres://HOST[:PORT]/DATABASE") // it may hold a secret
	}
	told := (&url.URL{Scheme: u.Scheme, Host: u.Host, Path: u.Path}).String()
	query := u.Query()
	if query.Get("sslmode") == "" && os.Getenv("PGSSLMODE") == "" && !onThisHost(u.Hostname()) &&
		query.Get("host") == "" {
		query.Set("sslmode", "verify-full")
		u.RawQuery = query.Encode()
	}
	config, err := pgx.ParseConfig(u.String())
	if err != nil {
		return nil, fmt.Errorf("casebook %s: %w", told, err)
	}
	if config.ConnectTimeout == 0 {
		config.ConnectTimeout = answerWait
	}
	if err := verified(config); err != nil {
		return nil, fmt.Errorf("casebook %s: %w", told, err)
	}
	config.RuntimeParams["search_path"] = "uakari"
	config.RuntimeParams["application_name"] = "uakari"
	db := stdlib.OpenDB(*config)
	db.SetMaxOpenConns(2)
	b := &Book{db, told}
	if err := b.migrateShared(ctx); err != nil {
		db.Close()
		return nil, err
	}
	return b, nil
}

// onThisHost reports whether a host is this one: a folder of sockets, or loopback.
func onThisHost(host string) bool {
	addr, err := netip.ParseAddr(host)
	return host == "" || host == "localhost" || strings.HasPrefix(host, "/") || err == nil && addr.IsLoopback()
}

// verified wants every connection that might be made to be one over which nobody
// else can answer.
func verified(config *pgx.ConnConfig) error {
	unsafe := errors.New("this sslmode lets anybody answer in its place; expected sslmode=verify-full" +
		" (and sslrootcert=FILE, if the system does not trust its authority)")
	if !onThisHost(config.Host) && (config.TLSConfig == nil || config.TLSConfig.InsecureSkipVerify) {
		return unsafe
	}
	for _, f := range config.Fallbacks {
		if !onThisHost(f.Host) && (f.TLSConfig == nil || f.TLSConfig.InsecureSkipVerify) {
			return unsafe
		}
	}
	return nil
}

// migrateShared brings the database to the version of this program. One of a later
// version is left alone. Several that begin at once do it once.
func (b *Book) migrateShared(ctx context.Context) error {
	return b.within(ctx, func(tx *sql.Tx) error {
		version, err := sharedVersion(ctx, tx)
		if err != nil || version == len(sharedMigrations) {
			return err
		}
		if version > len(sharedMigrations) {
			return later(version, len(sharedMigrations))
		}
		const lock = 0x75616b617269 // the name of this program, in ASCII
		if _, err := tx.ExecContext(ctx, "SELECT pg_advisory_xact_lock($1)", int64(lock)); err != nil {
			return err
		}
		if version, err = sharedVersion(ctx, tx); err != nil {
			return err
		}
		for ; version < len(sharedMigrations); version++ {
			if _, err := tx.ExecContext(ctx, sharedMigrations[version]); err != nil {
				return fmt.Errorf("%w: %w", errRenew, err)
			}
		}
		_, err = tx.ExecContext(ctx, fmt.Sprintf("UPDATE uakari.version SET version = %d", version))
		return err
	})
}

// errRenew says that a casebook cannot be used before somebody else was there.
var errRenew = errors.New("it has to be made or renewed first, by a role that may")

// sharedVersion is the version of the casebook in a database; 0 if there is none.
func sharedVersion(ctx context.Context, tx *sql.Tx) (version int, err error) {
	there := false
	// The catalogue is asked, which every role may read.
	err = tx.QueryRowContext(ctx, `SELECT EXISTS (SELECT FROM pg_class c JOIN pg_namespace n ON n.oid = c.relnamespace
		WHERE n.nspname = 'uakari' AND c.relname = 'version')`).Scan(&there)
	if err != nil || !there {
		return 0, err
	}
	err = tx.QueryRowContext(ctx, "SELECT version FROM uakari.version").Scan(&version)
	return version, err
}

// sharedError words what a database says: that it is away, or that the role may not.
func sharedError(err error) error {
	var refused *pgconn.PgError
	var connecting *pgconn.ConnectError
	var network net.Error
	switch {
	case errors.Is(err, errRenew):
		return err
	case errors.As(err, &refused) && refused.Code == "42501": // insufficient_privilege, PostgreSQL, appendix A
		return fmt.Errorf("this role may not do that (%s); see: uakari case rights", refused.Message)
	case errors.As(err, &refused) && (strings.HasPrefix(refused.Code, "57P") || strings.HasPrefix(refused.Code, "08")):
		return fmt.Errorf("%w: %s", ErrAway, refused.Message)
	case errors.As(err, &refused):
		return err
	case errors.As(err, &connecting), errors.As(err, &network), pgconn.SafeToRetry(err), errors.Is(err, net.ErrClosed),
		errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, driver.ErrBadConn):
		return fmt.Errorf("%w: %w", ErrAway, err)
	}
	return err
}
