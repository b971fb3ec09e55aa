package catalogue

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"sync"

	"github.com/goccy/go-yaml"
)

// onWindows is what is typed there in place of commands for Linux, the longest
// first, each with its own word behind it.
var onWindows = sync.OnceValue(func() [][2]string {
	text, err := catalogueFiles.ReadFile("windows.yaml")
	words := map[string]string{}
	if err == nil {
		err = yaml.UnmarshalWithOptions(text, &words, yaml.Strict())
	}
	if err != nil {
		// The file is part of the program and a test reads it.
		panic(fmt.Sprintf("weigh: commands of Windows: %v", err))
	}
	var list [][2]string
	for _, from := range slices.SortedFunc(maps.Keys(words), func(a, b string) int {
		if len(a) != len(b) {
			return len(b) - len(a)
		}
		return strings.Compare(a, b)
	}) {
		list = append(list, [2]string{from, words[from]})
	}
	return list
})

// On is the remedy as it is told for a host of a system.
func (r Remedy) On(system string) Remedy {
	if system != "windows" {
		return r
	}
	for _, text := range []*string{&r.Do, &r.Command, &r.Risk, &r.Undo} {
		for _, words := range onWindows() {
			*text = strings.ReplaceAll(*text, words[0], words[1])
		}
	}
	if r.Undo == "" {
		r.Undo = "set it back as it was"
	}
	return r
}

// On is the entry as it is told to a reader whose host runs a system.
func (e Entry) On(system string) Entry {
	list := make([]Remedy, 0, len(e.Remedies))
	for _, r := range e.Remedies {
		list = append(list, r.On(system))
	}
	e.Remedies = list
	if system == "windows" {
		for _, text := range []*string{&e.Means, &e.Looks, &e.Proof, &e.Mistaken} {
			for _, words := range onWindows() {
				*text = strings.ReplaceAll(*text, words[0], words[1])
			}
		}
	}
	return e
}
