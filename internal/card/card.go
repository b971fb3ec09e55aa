// Package card reads cards ("uakari.card/1"): YAML files that say what a
// healthy application looks like.
package card

import (
	"errors"
	"fmt"
	"os"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"uakari/internal/fact"
)

// Format names the file format.
const Format = "uakari.card/1"

// mostBytes bounds a card file.
const mostBytes = 1 << 20

// Read reads a card from a file. Errors name file, line and column.
func Read(path string) (*fact.Card, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > mostBytes {
		return nil, fmt.Errorf("%s: %d bytes; a card has at most %d", path, info.Size(), mostBytes)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, err
	}
	return Parse(path, text)
}

// Parse reads a card from text; path names it in errors.
func Parse(path string, text []byte) (*fact.Card, error) {
	var c fact.Card
	if err := yaml.UnmarshalWithOptions(text, &c, yaml.Strict()); err != nil {
		return nil, fmt.Errorf("%s:%s", path, oneLine(err))
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

// oneLine is a YAML error as "line:column: message".
func oneLine(err error) string {
	var y yaml.Error
	if errors.As(err, &y) && y.GetToken() != nil {
		at := y.GetToken().Position
		return fmt.Sprintf("%d:%d: %s", at.Line, at.Column, strings.ReplaceAll(y.GetMessage(), "\n", " "))
	}
	first, _, _ := strings.Cut(strings.TrimSpace(err.Error()), "\n")
	return "1:1: " + first
}
