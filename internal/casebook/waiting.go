package casebook

import (
	"bufio"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"uakari/internal/owned"
	"uakari/internal/plain"
)

// Kept is a trace that is to be kept: in the case with a number, in a new one, or,
// if neither is said, in the open one for its endpoint.
type Kept struct {
	Case  int64 `json:"case,omitempty"`
	New   bool  `json:"new,omitempty"`
	As    Case  `json:"as"` // the case that it opens, without entries
	Entry Entry `json:"entry"`
	// Well is that nothing failed: no case stays open for it.
	Well bool `json:"well,omitempty"`
}

// Keep keeps a trace, once however often it is handed in, and says in which case;
// 0, where that is closed at once.
func Keep(ctx context.Context, s Store, k Kept) (id int64, err error) {
	if k.Entry.UID == "" {
		k.Entry.UID = rand.Text()
	}
	switch {
	case k.Case > 0:
		return k.Case, s.Add(ctx, k.Case, k.Entry)
	case !k.New:
		list, err := s.List(ctx)
		if err != nil {
			return 0, err
		}
		for _, c := range list {
			if c.Closed.IsZero() && c.Endpoint == k.As.Endpoint {
				return c.ID, s.Add(ctx, c.ID, k.Entry)
			}
		}
	}
	if k.As.UID == "" {
		k.As.UID = k.Entry.UID
	}
	k.As.Entries = []Entry{k.Entry}
	if !k.New && k.Well {
		k.As.Closed = k.Entry.At // kept, and nothing is open
	}
	err = s.Import(ctx, func(add func(Case) (Case, bool, error)) error {
		made, _, err := add(k.As)
		id = made.ID
		return err
	})
	if !k.As.Closed.IsZero() {
		id = 0
	}
	return id, err
}

// waitingName is the file of traces that a shared casebook could not take, a JSON
// object a line.
const waitingName = "waiting.jsonl"

// Wait keeps a trace in a folder until it can be handed in.
func Wait(folder string, k Kept) error {
	if k.Entry.UID == "" {
		k.Entry.UID = rand.Text()
	}
	line, err := plain.JSON(k, "")
	if err != nil {
		return err
	}
	if err := owned.Folder(folder); err != nil {
		return err
	}
	f, err := os.OpenFile(filepath.Join(folder, waitingName), os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o600)
	if err != nil {
		return err
	}
	_, err = f.Write(line)
	return errors.Join(err, f.Sync(), f.Close())
}

// Waiting is how many traces wait in a folder.
func Waiting(folder string) (int, error) {
	count := 0
	err := eachWaiting(folder, func(string, Kept) error { count++; return nil })
	return count, err
}

// eachWaiting goes over what waits in a folder, file by file.
func eachWaiting(folder string, do func(path string, k Kept) error) error {
	paths, err := filepath.Glob(filepath.Join(folder, "*"+waitingName))
	if err != nil {
		return err
	}
	for _, path := range paths {
		if err := linesOf(path, func(k Kept) error { return do(path, k) }); err != nil {
			return err
		}
	}
	return nil
}

func linesOf(path string, do func(Kept) error) error {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil
	}
	if err != nil {
		return err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(make([]byte, 64<<10), mostLine)
	for n := 1; lines.Scan(); n++ {
		var k Kept
		if err := json.Unmarshal(lines.Bytes(), &k); err != nil {
			return fmt.Errorf("%s:%d:1: not a trace that waits: %w", path, n, err)
		}
		if err := do(k); err != nil {
			return err
		}
	}
	return lines.Err()
}

// HandIn keeps every trace that waits in a folder, and says how many. Those that
// cannot be kept go on waiting; one that another program hands in at the same time
// is kept once.
func HandIn(ctx context.Context, s Store, folder string) (count int, err error) {
	// What is written from now on goes to a file of its own.
	mine := filepath.Join(folder, rand.Text()+"-"+waitingName)
	if err := os.Rename(filepath.Join(folder, waitingName), mine); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	done := map[string]bool{}
	err = eachWaiting(folder, func(path string, k Kept) error {
		if filepath.Base(path) == waitingName {
			return nil
		}
		_, err := Keep(ctx, s, k)
		if errors.Is(err, ErrNone) { // its case was removed since
			k.Case, k.New = 0, true
			_, err = Keep(ctx, s, k)
		}
		if err != nil {
			done[path] = false
			return err
		}
		if _, failed := done[path]; !failed {
			done[path] = true
		}
		count++
		return nil
	})
	for path, whole := range done {
		if whole {
			err = errors.Join(err, os.Remove(path))
		}
	}
	return count, err
}
