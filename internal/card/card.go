// Package card reads cards ("uakari.card/1"): YAML files that say what a
// healthy application looks like.
package card

import (
	"fmt"
	"time"

	"uakari/internal/fact"
	"uakari/internal/written"
)

// Format names the file format.
const Format = "uakari.card/1"

// mostBytes bounds a card file.
const mostBytes = 1 << 20

// Read reads a card from a file. Errors name file, line and column.
func Read(path string) (*fact.Card, error) {
	text, err := written.Read(path, "a card", mostBytes)
	if err != nil {
		return nil, err
	}
	return Parse(path, text)
}

// Parse reads a card from text; path names it in errors.
func Parse(path string, text []byte) (*fact.Card, error) {
	var c fact.Card
	if err := written.Decode(path, text, &c); err != nil {
		return nil, err
	}
	switch {
	case c.Format != Format:
		return nil, fmt.Errorf("%s:1:1: format %q; expected %q", path, c.Format, Format)
	case c.Name == "":
		return nil, fmt.Errorf("%s:1:1: the card has no name; expected a line like: name: tidebook", path)
	}
	if c.Fresh != "" {
		if d, err := time.ParseDuration(c.Fresh); err != nil || d <= 0 {
			return nil, fmt.Errorf("%s:1:1: fresh %q; expected a time like 10m", path, c.Fresh)
		}
	}
	return &c, nil
}
