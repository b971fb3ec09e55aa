// Package settingsfile reads settings files of any program: a reader for each
// grammar, which gives every value with its key and its place. It knows no
// program, follows no inclusion, and what it cannot read it leaves out or, where
// the grammar has a whole to be broken, refuses.
package settingsfile

import (
	"fmt"
	"slices"
	"strings"
)

// Bounds on what is found in a settings file.
const (
	mostLevels = 100
	mostFound  = 20_000
)

// Value is one value of a settings file.
type Value struct {
	// Key is the key with what it stands in: sections, blocks and the places
	// of lists, joined by dots.
	Key  string
	Text string
	// Line and Column are where the value begins, from 1; Column is 0 where
	// the grammar's reader does not tell.
	Line, Column int
	// Off is that it is commented out.
	Off bool
	// Block counts the blocks that the text opens, in their order; values of
	// one block have one number. 0 is outside of all.
	Block int
}

// readers is the reader of each grammar.
var readers = map[string]func(string) ([]Value, error){
	"yaml":       inTree,
	"json":       inTree,
	"xml":        inXML,
	"add":        inAddPairs,
	"ini":        lined("ini"),
	"toml":       inTOML,
	"pg-service": lined("pg-service"),
	"properties": lined("properties"),
	"env":        lined("env"),
	"ssh":        lined("ssh"),
	"words":      lined("words"),
	"equals":     lined("equals"),
	"colon":      lined("colon"),
	"blocks":     inBlocks,
	"tags":       inTags,
	"registry":   inRegistry,
}

// AnyCase is the grammars whose keys are the same in any case of letters.
var AnyCase = map[string]bool{"ssh": true, "registry": true, "tags": true}

// Grammars is the name of every grammar, sorted.
func Grammars() []string {
	var list []string
	for name := range readers {
		list = append(list, name)
	}
	slices.Sort(list)
	return list
}

// Read is every value of a text in a grammar, in their order. An error says
// what of the text is not of the grammar.
func Read(text, grammar string) ([]Value, error) {
	read, ok := readers[grammar]
	if !ok {
		return nil, fmt.Errorf("no grammar is called %q; expected one of %s", grammar, strings.Join(Grammars(), ", "))
	}
	return read(text)
}

// Is reports whether a value is of a key: the whole of it, or the end of it
// from a dot on, in any case of letters. "*" in a key stands for one part.
func (v Value) Is(key string) bool {
	have, want := strings.Split(strings.ToLower(v.Key), "."), strings.Split(strings.ToLower(key), ".")
	if len(want) > len(have) {
		return strings.EqualFold(v.Key, key)
	}
	have = have[len(have)-len(want):]
	for i := range want {
		if want[i] != "*" && want[i] != have[i] {
			return strings.HasSuffix(
				"."+strings.ToLower(v.Key),
				"."+strings.ToLower(key),
			) // a key that has dots of its own
		}
	}
	return true
}
