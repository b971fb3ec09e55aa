package casebook

import (
	"bufio"
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"uakari/internal/owned"
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
		list, err := s.List(ctx, Wanted{Open: true, Endpoint: k.As.Endpoint, Most: 1})
		if err != nil {
			return 0, err
		}
		if len(list) > 0 {
			return list[0].ID, s.Add(ctx, list[0].ID, k.Entry)
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
	line, err := lineOf(k)
	if err != nil {
		return err
	}
	if err := owned.Folder(folder); err != nil {
		return err
	}
	for range mostWaits {
		sure, err := waitIn(folder, line)
		if sure || err != nil {
			return err
		}
	}
	return fmt.Errorf("%s is handed in all the while", filepath.Join(folder, waitingName))
}

// mostWaits is how often a trace is written again that was written while others were handed in.
const mostWaits = 100

// waitIn adds a line to the file of what waits. It is not sure where the file was taken away
// meanwhile, by somebody who may have read it before: then the line is added once more, since
// a trace is kept once however often it is handed in.
func waitIn(folder string, line []byte) (sure bool, err error) {
	path := filepath.Join(folder, waitingName)
	f, err := owned.Append(path)
	if err != nil {
		return false, err
	}
	defer func() { err = errors.Join(err, f.Close()) }()
	// A line that was torn before, by a full disk or an end, ends here.
	if info, err2 := f.Stat(); err2 == nil && info.Size() > 0 {
		last := make([]byte, 1)
		if _, err = f.ReadAt(last, info.Size()-1); err == nil && last[0] != '\n' {
			line = append([]byte{'\n'}, line...)
		}
	}
	if err == nil {
		_, err = f.Write(line)
	}
	if err = errors.Join(err, f.Sync()); err != nil {
		return false, err
	}
	written, err := f.Stat()
	if err != nil {
		return false, err
	}
	there, err := os.Stat(path)
	if errors.Is(err, fs.ErrNotExist) {
		return false, nil
	}
	return err == nil && os.SameFile(written, there), err
}

// lineOf is a trace as a line of the file: a checksum of what follows it, and the trace.
func lineOf(k Kept) ([]byte, error) {
	text, err := json.Marshal(k)
	if err != nil {
		return nil, err
	}
	return fmt.Appendf(nil, "%s %s\n", checksum(text), text), nil
}

func checksum(text []byte) string {
	sum := sha256.Sum256(text)
	return hex.EncodeToString(sum[:8])
}

// waitingIn is the trace in a line. Lines of earlier versions have no checksum.
func waitingIn(line []byte) (k Kept, err error) {
	text := line
	if len(line) > 0 && line[0] != '{' {
		sum, rest, _ := bytes.Cut(line, []byte(" "))
		if text = rest; string(sum) != checksum(text) {
			return k, errors.New("it is torn, or was changed")
		}
	}
	return k, json.Unmarshal(text, &k)
}

// Waiting is how many traces wait in a folder.
func Waiting(folder string) (int, error) {
	count := 0
	paths, err := waitingFiles(folder)
	for _, path := range paths {
		good, _, err2 := readWaiting(path)
		err = errors.Join(err, err2)
		count += len(good)
	}
	return count, err
}

// waitingFiles is the files of a folder in which traces wait.
func waitingFiles(folder string) ([]string, error) {
	return filepath.Glob(filepath.Join(folder, "*"+waitingName))
}

// aside is what the file is called that keeps the lines which cannot be read.
const aside = ".torn"

// readWaiting reads the traces of a file, and the lines that are none. A file that is gone
// was handed in by somebody else.
func readWaiting(path string) (good []Kept, torn [][]byte, err error) {
	f, err := os.Open(path)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil, nil
	}
	if err != nil {
		return nil, nil, err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Buffer(make([]byte, 64<<10), mostLine)
	for lines.Scan() {
		if len(bytes.TrimSpace(lines.Bytes())) == 0 {
			continue
		}
		k, err := waitingIn(lines.Bytes())
		if err != nil {
			torn = append(torn, bytes.Clone(lines.Bytes()))
			continue
		}
		good = append(good, k)
	}
	return good, torn, lines.Err()
}

// Torn says that lines of what waited could not be read, and where they are kept.
type Torn struct {
	Lines int
	Path  string
}

func (e *Torn) Error() string {
	return fmt.Sprintf("%d torn lines of what waited are set aside in %s", e.Lines, e.Path)
}

// HandIn keeps every trace that waits in a folder, and says how many. Those that cannot be
// kept go on waiting, line by line; one that another program hands in at the same time is
// kept once; a line that is torn is set aside and named ([*Torn]).
func HandIn(ctx context.Context, s Store, folder string) (count int, err error) {
	// What is written from now on goes to a file of its own.
	mine := filepath.Join(folder, rand.Text()+"-"+waitingName)
	if err := os.Rename(filepath.Join(folder, waitingName), mine); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return 0, err
	}
	paths, err := waitingFiles(folder)
	if err != nil {
		return 0, err
	}
	for _, path := range paths {
		if filepath.Base(path) == waitingName {
			continue // somebody writes there
		}
		n, err2 := handInFile(ctx, s, path)
		count, err = count+n, errors.Join(err, err2)
	}
	return count, err
}

// handInFile hands in one file, and leaves in it what could not be kept.
func handInFile(ctx context.Context, s Store, path string) (count int, err error) {
	good, torn, err := readWaiting(path)
	if err != nil {
		return 0, err
	}
	if len(torn) > 0 {
		if err := setAside(path, torn); err != nil {
			return 0, err // the file stays as it is
		}
	}
	var left []byte
	for _, k := range good {
		err2 := ctx.Err()
		if err2 == nil {
			_, err2 = Keep(ctx, s, k)
		}
		if errors.Is(err2, ErrNone) { // its case was removed since
			k.Case, k.New = 0, true
			_, err2 = Keep(ctx, s, k)
		}
		if err2 == nil {
			count++
			continue
		}
		if err == nil {
			err = err2 // the others fail alike
		}
		line, err2 := lineOf(k)
		if err2 != nil {
			return count, errors.Join(err, err2)
		}
		left = append(left, line...)
	}
	if len(left) > 0 {
		_, err2 := owned.Write(path, left)
		err = errors.Join(err, err2)
	} else if err2 := os.Remove(path); err2 != nil && !errors.Is(err2, fs.ErrNotExist) {
		err = errors.Join(err, err2)
	}
	if len(torn) > 0 {
		err = errors.Join(err, &Torn{len(torn), path + aside})
	}
	return count, err
}

// setAside keeps lines that cannot be read beside their file.
func setAside(path string, lines [][]byte) error {
	f, err := owned.Append(path + aside)
	if err != nil {
		return err
	}
	_, err = f.Write(append(bytes.Join(lines, []byte("\n")), '\n'))
	return errors.Join(err, f.Sync(), f.Close())
}
