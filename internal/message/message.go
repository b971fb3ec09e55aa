// Package message knows what client programs, libraries and servers say when something does
// not work: which words mean what, and which causes give them.
//
// It is pure: no input or output, no clock.
package message

import (
	"cmp"
	"embed"
	"fmt"
	"path"
	"regexp"
	"slices"
	"strings"
	"sync"

	"uakari/internal/yamlfile"
)

// Message is one text or code that somebody prints.
type Message struct {
	Says    string   // as it is printed: "Connection refused"
	Library string   // of whom: "libc"
	About   string   // that in words: "the system (errno and getaddrinfo)"
	Means   string   // in one sentence
	Causes  []string // of the catalogue, the most frequent first

	scheme  string // of the protocol that its library speaks, if that is one alone
	first   string // the first word of the pattern, in small letters; "": it has none
	pattern *regexp.Regexp
}

// Found is a message in a text.
type Found struct {
	Message
	Quoted  string // as it stands in the text
	at, end int
}

//go:embed known/*.yaml
var known embed.FS

// kindsFile is what messages of a kind mean, and what gives them.
const kindsFile = "kinds.yaml"

// mostText bounds the text that is searched, in bytes: its end is what counts.
const mostText = 1 << 20

// tools is the schemes that programs speak, by the names of the programs; read with All.
var tools = map[string]string{}

// All is every message that is known, read when it is first asked for. A file of it that
// cannot be read is a mistake of this program.
var All = sync.OnceValue(func() []Message {
	type kind struct {
		Means  string   `yaml:"means"`
		Causes []string `yaml:"causes"`
	}
	var kinds struct {
		Format string          `yaml:"format"`
		Kinds  map[string]kind `yaml:"kinds"`
	}
	read(kindsFile, &kinds)
	files, err := known.ReadDir("known")
	if err != nil {
		panic(err)
	}
	var list []Message
	for _, file := range files {
		if file.Name() == kindsFile {
			continue
		}
		var library struct {
			Format   string   `yaml:"format"`
			Name     string   `yaml:"name"`
			About    string   `yaml:"about"`
			Scheme   string   `yaml:"scheme"`
			Tools    []string `yaml:"tools"`  // programs that speak it, by their names
			Source   string   `yaml:"source"` // the published text that the messages come from
			Messages []struct {
				Says  string `yaml:"says"`
				Match string `yaml:"match"` // an expression, where what is said varies
				Kind  string `yaml:"kind"`
			} `yaml:"messages"`
		}
		read(file.Name(), &library)
		for _, tool := range library.Tools {
			tools[tool] = library.Scheme
		}
		for _, m := range library.Messages {
			k, ok := kinds.Kinds[m.Kind]
			if !ok {
				panic(fmt.Sprintf("%s: %q is of no known kind: %s", file.Name(), m.Says, m.Kind))
			}
			list = append(list, Message{
				Says: m.Says, Library: library.Name, About: library.About, Means: k.Means, Causes: k.Causes,
				scheme: library.Scheme, first: firstWord(m.Says, m.Match), pattern: patternOf(m.Says, m.Match),
			})
		}
	}
	return list
})

// read decodes one of the program's own files.
func read(name string, into any) {
	text, err := known.ReadFile(path.Join("known", name))
	if err == nil {
		err = yamlfile.Decode(name, text, into)
	}
	if err != nil {
		panic(err)
	}
}

// firstWord is what a text must hold before the pattern of a message is tried.
func firstWord(says, match string) string {
	if match != "" {
		return ""
	}
	return strings.ToLower(strings.Fields(says)[0])
}

// number is a code of digits alone: it counts only where it is called one.
var number = regexp.MustCompile(`^\d+$`)

// patternOf is where a message stands in a text: its words in any case, with any space between
// them, and no letter or digit right beside it.
func patternOf(says, match string) *regexp.Regexp {
	switch {
	case match != "":
		return regexp.MustCompile(`(?is)` + match)
	case number.MatchString(says):
		return regexp.MustCompile(`(?i)^\s*` + says + `\s*$|(?:error|code|errno|sqlstate|status|result)\W{0,4}(?:\w+\W{1,3})?` +
			says + `\b|[(\[]\s*(?:\w+\W{1,2})?` + says + `\s*[)\]]`)
	}
	words := strings.Fields(says)
	for i, word := range words {
		words[i] = regexp.QuoteMeta(word)
	}
	pattern := strings.Join(words, `\s+`)
	if capitals.MatchString(says) { // a code that is a word of the language, too
		return regexp.MustCompile(`\b` + pattern + `\b`)
	}
	if letterOrDigit.MatchString(says[:1]) {
		pattern = `(?:^|[^A-Za-z0-9])` + pattern
	}
	if letterOrDigit.MatchString(says[len(says)-1:]) {
		pattern += `(?:$|[^A-Za-z0-9])`
	}
	return regexp.MustCompile(`(?i)` + pattern)
}

var capitals = regexp.MustCompile(`^[A-Z]{5,8}$`)

var letterOrDigit = regexp.MustCompile(`[A-Za-z0-9]`)

// Find is the messages in a text, those that say most first: one that is a part of another is
// left out, and so is a second one of the same meaning.
func Find(text string) []Found {
	text = text[max(0, len(text)-mostText):]
	var all []Found
	lower := strings.ToLower(text)
	for _, m := range All() {
		if !strings.Contains(lower, m.first) {
			continue
		}
		if at := m.pattern.FindStringIndex(text); at != nil {
			all = append(all, Found{m, strings.Join(strings.Fields(text[at[0]:at[1]]), " "), at[0], at[1]})
		}
	}
	slices.SortStableFunc(all, func(a, b Found) int {
		if a.first == "" != (b.first == "") { // an expression asks for more than words
			return cmp.Compare(a.first, b.first)
		}
		if long := len(b.Says) - len(a.Says); long != 0 {
			return long
		}
		return a.at - b.at
	})
	var list []Found
	for _, f := range all {
		within := func(other Found) bool {
			return f.at < other.end && other.at < f.end || f.Means == other.Means
		}
		if !slices.ContainsFunc(list, within) {
			f.Quoted = strings.Trim(f.Quoted, " \t\r\n:;,.()[]'\"")
			list = append(list, f)
		}
	}
	return list
}

// Causes is the causes of what was found, each once, those of the first message first.
func Causes(found []Found) []string {
	var list []string
	for _, f := range found {
		for _, id := range f.Causes {
			if !slices.Contains(list, id) {
				list = append(list, id)
			}
		}
	}
	return list
}
