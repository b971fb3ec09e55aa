// Package file reads files that somebody else may have made. Nothing is held
// before it is known to be small enough, and nothing waits for what may never
// come: only regular files are opened, but for those that the user typed.
package file

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"time"

	"uakari/internal/settingsfile"
)

// Bounds on files by what they are for, in bytes.
const (
	MostSettings = 1 << 20  // settings of a program
	MostStore    = 8 << 20  // certificates
	MostKept     = 64 << 20 // what a run, a record or a case left
)

// ErrKind says that something is no regular file, and is not opened.
var ErrKind = errors.New("not a regular file")

// TooLarge is a file beyond its bound.
type TooLarge struct {
	Path string
	Most int64 // bytes
}

func (e *TooLarge) Error() string {
	return fmt.Sprintf("%s: more than %d bytes, which is all that is read", e.Path, e.Most)
}

// Open opens a regular file; anything else is [ErrKind]. A pipe or a device is
// not opened at all: that alone may block, or do something.
func Open(path string) (*os.File, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if !info.Mode().IsRegular() {
		return nil, &fs.PathError{Op: "read", Path: path, Err: ErrKind}
	}
	f, err := opened(path)
	if err != nil {
		return nil, err
	}
	// It may have become another one in between.
	if info, err = f.Stat(); err == nil && !info.Mode().IsRegular() {
		err = &fs.PathError{Op: "read", Path: path, Err: ErrKind}
	}
	if err != nil {
		f.Close()
		return nil, err
	}
	return f, nil
}

// Read reads a file whole; one of more than most bytes is a [*TooLarge].
func Read(path string, most int64) ([]byte, error) {
	f, err := Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return whole(f, path, most)
}

// Head reads the first bytes of a file, at most so many.
func Head(path string, most int64) ([]byte, error) { return Account{}.Head(path, most) }

// Tail reads the last bytes of a file, at most so many.
func Tail(path string, most int64) ([]byte, error) { return Account{}.Tail(path, most) }

// typedWait is how long a pipe is read where the command has no deadline of its own.
const typedWait = time.Minute

// Typed reads a file that the user typed, which may be a pipe; it ends with the context, or
// after a minute, at the latest. Text that says by its mark that it is in UTF-16, as programs
// of Windows save it, is given in UTF-8, and without the mark.
func Typed(ctx context.Context, path string, most int64) ([]byte, error) {
	text, err := typed(ctx, path, most)
	if settingsfile.Marked(text) {
		text = []byte(settingsfile.Decode(text))
	}
	return text, err
}

func typed(ctx context.Context, path string, most int64) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Mode().IsRegular() {
		return Read(path, most)
	}
	if info.IsDir() || info.Mode()&fs.ModeDevice != 0 { // a device may have no end
		return nil, &fs.PathError{Op: "read", Path: path, Err: ErrKind}
	}
	ctx, cancel := context.WithTimeout(ctx, typedWait)
	defer cancel()
	type result struct {
		text []byte
		err  error
	}
	got := make(chan result, 1)
	go func() { // it may hang for ever; the program does not wait for it
		f, err := os.Open(path)
		if err != nil {
			got <- result{nil, err}
			return
		}
		defer f.Close()
		text, err := whole(f, path, most)
		got <- result{text, err}
	}()
	select {
	case r := <-got:
		return r.text, r.err
	case <-ctx.Done():
		if errors.Is(ctx.Err(), context.DeadlineExceeded) {
			return nil, fmt.Errorf("%s: nothing came before the deadline", path)
		}
		return nil, fmt.Errorf("%s: nothing came: %w", path, ctx.Err())
	}
}

// whole reads to the end, or fails beyond the bound.
func whole(f *os.File, path string, most int64) ([]byte, error) {
	var b bytes.Buffer
	// As much room as the file says, so that a large one is held once. Those of
	// the kernel say none.
	if info, err := f.Stat(); err == nil {
		if info.Size() > most {
			return nil, &TooLarge{path, most}
		}
		b.Grow(int(info.Size()) + bytes.MinRead)
	}
	_, err := b.ReadFrom(io.LimitReader(f, most+1))
	text := b.Bytes()
	if err == nil && int64(len(text)) > most {
		return nil, &TooLarge{path, most}
	}
	return text, err
}
