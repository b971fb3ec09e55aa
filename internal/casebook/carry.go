package casebook

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"

	"uakari/internal/foreign"
)

// Format names the format of carried cases: JSON Lines, the first of which
// names the format, the others a case each.
const Format = "uakari.casebook/1"

type head struct {
	Format string `json:"format"`
}

// Export writes cases, all of them if none is named. Of all, one that cannot be
// read is left out, and told.
func Export(ctx context.Context, s Store, out io.Writer, ids ...int64) (left []error, err error) {
	all := len(ids) == 0
	if all {
		list, err := s.List(ctx, Wanted{})
		if err != nil {
			return nil, err
		}
		for _, c := range slices.Backward(list) {
			ids = append(ids, c.ID)
		}
	}
	write := func(value any) error {
		line, err := foreign.JSON(value, "")
		if err == nil {
			_, err = out.Write(line)
		}
		return err
	}
	if err := write(head{Format}); err != nil {
		return nil, err
	}
	for _, id := range ids {
		c, err := s.Get(ctx, id)
		if err != nil && all && ctx.Err() == nil {
			left = append(left, fmt.Errorf("case %d is left out: %w", id, err))
			continue
		}
		if err == nil {
			err = write(c)
		}
		if err != nil {
			return left, err
		}
	}
	return left, nil
}

// mostLine bounds one case that is imported, in bytes.
const mostLine = 64 << 20

// Import reads cases that Export wrote, and says which were new. Cases that
// are here already are passed over; if one of them cannot be taken over, none
// is. What is taken over is foreign for good.
func Import(ctx context.Context, s Store, name string, in io.Reader) (added []Case, err error) {
	reader := bufio.NewReader(in)
	// What does not begin as a case is not read on: it may be anything, and have no end.
	if first, err := reader.Peek(1); err == nil && first[0] != '{' {
		return nil, input("%s:1:1: expected {\"format\":%q}, as uakari case export writes", name, Format)
	}
	lines := bufio.NewScanner(reader)
	lines.Buffer(make([]byte, 64<<10), mostLine)
	err = s.Import(ctx, func(add func(Case) (Case, bool, error)) error {
		number := 0
		for lines.Scan() {
			if number++; number == 1 {
				var h head
				if err := json.Unmarshal(lines.Bytes(), &h); err != nil || h.Format != Format {
					return input("%s:1:1: expected {\"format\":%q}, as uakari case export writes", name, Format)
				}
				continue
			}
			c, err := decodeCase(lines.Bytes())
			if err != nil {
				return input("%s:%d:1: %w; nothing is taken over", name, number, err)
			}
			c.Foreign = true
			made, fresh, err := add(c)
			if err != nil {
				return err
			}
			if fresh {
				made.Entries = nil
				added = append(added, made)
			}
		}
		switch {
		case errors.Is(lines.Err(), bufio.ErrTooLong):
			return input("%s:%d:1: a case of more than %d bytes; nothing is taken over", name, number+1, mostLine)
		case lines.Err() == nil && number == 0:
			return input("%s:1:1: nothing in it; expected {\"format\":%q}, as uakari case export writes", name, Format)
		}
		return lines.Err()
	})
	if err != nil {
		return nil, err
	}
	return added, nil
}

// inputError is an error of the file that is read, and not of the casebook.
type inputError struct{ error }

func input(format string, args ...any) error { return inputError{fmt.Errorf(format, args...)} }

// decodeCase reads one case, and refuses one that nothing could be made of.
func decodeCase(line []byte) (Case, error) {
	var c Case
	if err := json.Unmarshal(line, &c); err != nil {
		return c, fmt.Errorf("not a case: %w", err)
	}
	if c.UID == "" || len(c.Entries) == 0 {
		return c, errors.New("a case has a uid and entries")
	}
	for i, e := range c.Entries {
		switch {
		case e.Kind != Trace && e.Kind != Note && e.Kind != Change:
			return c, fmt.Errorf("entry %d: kind %q; expected trace, note or change", i+1, e.Kind)
		case (e.Set != nil) != (e.Kind == Trace):
			return c, fmt.Errorf("entry %d: a trace, and only that, has a set of facts", i+1)
		case e.Set != nil:
			if err := e.Set.Check(); err != nil {
				return c, fmt.Errorf("entry %d: %w", i+1, err)
			}
		}
	}
	return c, nil
}
