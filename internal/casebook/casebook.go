// Package casebook keeps cases: each incident from the first trace that failed
// to the confirmation that it works again, in one SQLite file of one's own or in
// a PostgreSQL database that a team shares. What was seen is kept whole and never
// changed; notes and changes are added to it.
package casebook

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strings"
	"time"

	"uakari/internal/fact"
)

// Store is what a casebook can do, wherever it is kept.
type Store interface {
	Open(ctx context.Context, c Case, first Entry) (Case, error)
	Add(ctx context.Context, id int64, e Entry) error
	Undone(ctx context.Context, id int64, number int64, at time.Time) error
	Close(ctx context.Context, id int64, at time.Time) error
	Get(ctx context.Context, id int64) (Case, error)
	List(ctx context.Context, w Wanted) ([]Case, error)
	// Import runs work that adds cases with all their entries: all of them are
	// kept, or none if it fails. Those that are here already are passed over,
	// which add says.
	Import(ctx context.Context, work func(add func(Case) (Case, bool, error)) error) error
	Remove(ctx context.Context, id int64) error
	// Take says who works on a case; nobody, where who is "".
	Take(ctx context.Context, id int64, who string, at time.Time) error
	// Prune removes cases that were closed before a time, but for so many of the newest
	// closed ones, and says how many.
	Prune(ctx context.Context, before time.Time, newest int) (int, error)
	// Reached keeps the run in which a client reached an endpoint, in place of
	// the one before; Baseline is that run, nil if there is none.
	Reached(ctx context.Context, endpoint, client string, set fact.Set) error
	Baseline(ctx context.Context, endpoint, client string) (*fact.Set, error)
	// Waits is how long it took, the newest first, until an endpoint worked when somebody
	// waited for it.
	Waits(ctx context.Context, endpoint string) ([]time.Duration, error)
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
	Foreign bool `json:"foreign,omitempty"`
	// Taken is who works on it, since TakenAt.
	Taken   string    `json:"taken,omitempty"`
	TakenAt time.Time `json:"taken_at,omitzero"`
	Entries []Entry   `json:"entries,omitempty"`
}

// Wanted is which cases are listed, all where nothing is said.
type Wanted struct {
	Open     bool   // those that are not closed
	Taken    string // those that this user works on
	Endpoint string // those of this endpoint
	Part     string // those whose endpoint has this part
	First    string // those with this first cause
	Cause    string // those whose first cause has this part
	Words    string // those that say this in title, endpoint, cause, notes or changes, in any case
	Before   int64  // those with a smaller number: the list goes on there
	Most     int    // the newest so many; 0 is no bound
}

// Kinds of entries.
const (
	Trace  = "trace"  // what a trace saw
	Note   = "note"   // a remark
	Change = "change" // something that was done
)

// Entry is one thing of a case.
type Entry struct {
	Number int64     `json:"number"`        // within the casebook
	UID    string    `json:"uid,omitempty"` // of one that may be handed in twice: it is kept once
	By     string    `json:"by,omitempty"`  // who wrote it
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

// ErrAway says that a shared casebook cannot be reached now.
var ErrAway = errors.New("it cannot be reached")

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

// Path is the place of this user's casebook: what UAKARI_CASEBOOK names, a file, a
// folder or a database (postgres://…), or a file in the state folder.
func Path() (string, error) {
	path := os.Getenv("UAKARI_CASEBOOK")
	if path == "" || Shared(path) {
		folder, err := state()
		if err != nil || path != "" {
			return path, err
		}
		return filepath.Join(folder, "casebook.db"), nil
	}
	if info, err := os.Stat(path); err == nil && info.IsDir() {
		return filepath.Join(path, "casebook.db"), nil
	}
	return path, nil
}

// Shared reports whether a place is a database and no file.
func Shared(place string) bool {
	return strings.HasPrefix(place, "postgres://") || strings.HasPrefix(place, "postgresql://")
}

// Folder is where this user keeps what is not shared: beside the casebook, if that
// is a file.
func Folder() (string, error) {
	path, err := Path()
	if err != nil {
		return "", err
	}
	if Shared(path) {
		return state()
	}
	return filepath.Dir(path), nil
}

// state is the folder of this program's state.
func state() (string, error) {
	folder := os.Getenv("XDG_STATE_HOME")
	if local := os.Getenv("LocalAppData"); folder == "" && runtime.GOOS == "windows" && local != "" {
		return moved(filepath.Join(local, "uakari"))
	}
	if folder == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", fmt.Errorf("no place for a casebook: %w; name one by UAKARI_CASEBOOK", err)
		}
		folder = filepath.Join(home, ".local", "state")
	}
	return filepath.Join(folder, "uakari"), nil
}

// moved is the folder where programs of Windows keep what is theirs on this machine. What an
// older release kept below the user's own folder is moved there, once.
func moved(folder string) (string, error) {
	home, err := os.UserHomeDir()
	if _, here := os.Stat(folder); here == nil || err != nil {
		return folder, nil
	}
	old := filepath.Join(home, ".local", "state", "uakari")
	if _, err := os.Stat(old); err != nil {
		return folder, nil // there is nothing to move
	}
	if err := os.Rename(old, folder); err != nil {
		return "", fmt.Errorf("could not move %s to %s: %w; name a casebook by UAKARI_CASEBOOK", old, folder, err)
	}
	return folder, nil
}

// Open opens a casebook, a file or a shared one, and makes it if it is not there.
func Open(ctx context.Context, place string) (*Book, error) {
	if Shared(place) {
		return openShared(ctx, place)
	}
	return openFile(ctx, place)
}
