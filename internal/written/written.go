// Package written reads the YAML files that users write: whole, strictly, and
// with errors that name file, line and column.
package written

import (
	"errors"
	"fmt"
	"os"
	"strings"

	"github.com/goccy/go-yaml"
)

// Read reads a file of a kind ("a card") that has at most so many bytes.
func Read(path, kind string, most int64) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > most {
		return nil, fmt.Errorf("%s: %d bytes; %s has at most %d", path, info.Size(), kind, most)
	}
	return os.ReadFile(path)
}

// Decode reads text into a value that has a field for every key; path names
// it in errors.
func Decode(path string, text []byte, into any) error {
	err := yaml.UnmarshalWithOptions(text, into, yaml.Strict())
	if err == nil {
		return nil
	}
	var y yaml.Error
	if errors.As(err, &y) && y.GetToken() != nil {
		at := y.GetToken().Position
		return fmt.Errorf("%s:%d:%d: %s", path, at.Line, at.Column, strings.ReplaceAll(y.GetMessage(), "\n", " "))
	}
	first, _, _ := strings.Cut(strings.TrimSpace(err.Error()), "\n")
	return fmt.Errorf("%s:1:1: %s", path, first)
}
