package casebook

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
)

// Format names the format of carried cases: JSON Lines, the first of which
// names the format, the others a case each.
const Format = "uakari.casebook/1"

type head struct {
	Format string `json:"format"`
}

// Export writes cases, all of them if none is named.
func Export(ctx context.Context, s Store, out io.Writer, ids ...int64) error {
	if len(ids) == 0 {
		list, err := s.List(ctx)
		if err != nil {
			return err
		}
		for _, c := range list {
			ids = append([]int64{c.ID}, ids...)
		}
	}
	w := json.NewEncoder(out)
	if err := w.Encode(head{Format}); err != nil {
		return err
	}
	for _, id := range ids {
		c, err := s.Get(ctx, id)
		if err != nil {
			return err
		}
		if err := w.Encode(c); err != nil {
			return err
		}
	}
	return nil
}

// mostLine bounds one case that is imported, in bytes.
const mostLine = 256 << 20

// Import reads cases that Export wrote, and says which were new. Cases that
// are here already are passed over.
func Import(ctx context.Context, s Store, name string, in io.Reader) (added []Case, err error) {
	here, err := s.List(ctx)
	if err != nil {
		return nil, err
	}
	known := map[string]bool{}
	for _, c := range here {
		known[c.UID] = true
	}
	lines := bufio.NewScanner(in)
	lines.Buffer(make([]byte, 64<<10), mostLine)
	for number := 1; lines.Scan(); number++ {
		var c Case
		if number == 1 {
			var h head
			if err := json.Unmarshal(lines.Bytes(), &h); err != nil || h.Format != Format {
				return nil, fmt.Errorf("%s:1:1: expected {\"format\":%q}, as uakari case export writes", name, Format)
			}
			continue
		}
		if err := json.Unmarshal(lines.Bytes(), &c); err != nil {
			return added, fmt.Errorf("%s:%d:1: not a case: %w", name, number, err)
		}
		if c.UID == "" || len(c.Entries) == 0 {
			return added, fmt.Errorf("%s:%d:1: a case has a uid and entries", name, number)
		}
		if known[c.UID] {
			continue
		}
		entries := c.Entries
		made, err := s.Open(ctx, c, entries[0])
		if err != nil {
			return added, err
		}
		for _, e := range entries[1:] {
			if err := s.Add(ctx, made.ID, e); err != nil {
				return added, err
			}
		}
		if !c.Closed.IsZero() {
			if err := s.Close(ctx, made.ID, c.Closed); err != nil {
				return added, err
			}
		}
		known[c.UID] = true
		added = append(added, made)
	}
	if errors.Is(lines.Err(), bufio.ErrTooLong) {
		return added, fmt.Errorf("%s: a line of more than %d bytes", name, mostLine)
	}
	return added, lines.Err()
}
