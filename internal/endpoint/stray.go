package endpoint

import (
	"fmt"
	"strings"
	"unicode"

	"uakari/internal/fact"
)

// invisible names the characters that people carry into settings with copy
// and paste. None has a place in an endpoint (RFC 5892 disallows them).
var invisible = map[rune]string{
	0x00A0: "a no-break space", 0x00AD: "a soft hyphen", 0x034F: "a combining grapheme joiner",
	0x061C: "an Arabic letter mark", 0x180E: "a Mongolian vowel separator",
	0x200B: "a zero-width space", 0x200C: "a zero-width non-joiner", 0x200D: "a zero-width joiner",
	0x200E: "a left-to-right mark", 0x200F: "a right-to-left mark",
	0x2028: "a line separator", 0x2029: "a paragraph separator",
	0x202A: "a left-to-right embedding", 0x202B: "a right-to-left embedding", 0x202C: "a pop directional formatting",
	0x202D: "a left-to-right override", 0x202E: "a right-to-left override", 0x202F: "a narrow no-break space",
	0x2060: "a word joiner", 0x2066: "a left-to-right isolate", 0x2067: "a right-to-left isolate",
	0x2068: "a first strong isolate", 0x2069: "a pop directional isolate",
	0x3000: "an ideographic space", 0xFEFF: "a byte order mark",
}

// alike maps letters that look like a Latin one to it: the part of Unicode's
// table of confusable characters that a keyboard or a document brings along.
var alike = map[rune]rune{
	'а': 'a', 'е': 'e', 'о': 'o', 'р': 'p', 'с': 'c', 'у': 'y', 'х': 'x', 'і': 'i', 'ј': 'j', 'ѕ': 's',
	'ԁ': 'd', 'ԛ': 'q', 'ԝ': 'w', 'һ': 'h', 'ӏ': 'l', 'в': 'b', 'к': 'k', 'м': 'm', 'н': 'h', 'т': 't',
	'г': 'r',
	'А': 'a', 'В': 'b', 'Е': 'e', 'К': 'k', 'М': 'm', 'Н': 'h', 'О': 'o', 'Р': 'p', 'С': 'c', 'Т': 't', 'Х': 'x',
	'α': 'a', 'ο': 'o', 'ν': 'v', 'ρ': 'p', 'τ': 't', 'υ': 'u', 'ι': 'i', 'κ': 'k',
	'‐': '-', '‑': '-', '‒': '-', '–': '-', '—': '-', '−': '-', '․': '.', '∕': '/', '：': ':', 'ı': 'i',
}

func isBlank(r rune) bool {
	return r == ' ' || r == '\t' || r == '\n' || r == '\r' || r == '\v' || r == '\f'
}

// strayName names a character that cannot be seen.
func strayName(r rune) (string, bool) {
	if name, ok := invisible[r]; ok {
		return name, true
	}
	if unicode.Is(unicode.Cf, r) || unicode.Is(unicode.Zs, r) && r != ' ' {
		return "an invisible character", true
	}
	if unicode.IsControl(r) && !isBlank(r) {
		return "a control character", true
	}
	return "", false
}

// lookalike gives the Latin letter that a character passes for. Only a word
// that mixes scripts is suspect: a name all in one script is a name.
func lookalike(word []rune, r rune) (rune, bool) {
	latin, ok := alike[r]
	if !ok || r == 'ı' && !mixed(word) {
		return 0, false
	}
	if !unicode.IsLetter(r) {
		return latin, true
	}
	return latin, mixed(word)
}

func mixed(word []rune) bool {
	for _, r := range word {
		if r < unicode.MaxASCII && unicode.IsLetter(r) {
			return true
		}
	}
	return false
}

// Clean is a text without the stray characters that it has, and what they are.
func Clean(text string) (string, []fact.Stray) { return removeStray(text), findStray(text) }

// findStray lists every stray character of an input: unseen ones anywhere,
// blanks at its ends, look-alikes within a word.
func findStray(input string) []fact.Stray {
	var found []fact.Stray
	eachRune(input, func(at int, word []rune, edge bool, r rune) {
		if name, ok := strayName(r); ok {
			found = append(found, stray(at, r, name))
		} else if isBlank(r) && edge {
			found = append(found, stray(at, r, blankName(r)))
		} else if latin, ok := lookalike(word, r); ok {
			found = append(found, stray(at, r, fmt.Sprintf("a letter that looks like %q", latin)))
		}
	})
	return found
}

func stray(at int, r rune, name string) fact.Stray {
	return fact.Stray{At: at, Code: fmt.Sprintf("U+%04X", r), Name: name}
}

func blankName(r rune) string {
	if r == ' ' {
		return "a blank"
	}
	if r == '\t' {
		return "a tab"
	}
	return "a line end"
}

// removeStray is the input as it was meant.
func removeStray(input string) string {
	var b strings.Builder
	eachRune(input, func(_ int, word []rune, edge bool, r rune) {
		if _, odd := strayName(r); odd || isBlank(r) && edge {
			return
		}
		if latin, ok := lookalike(word, r); ok {
			r = latin
		}
		b.WriteRune(r)
	})
	return b.String()
}

// eachRune calls do for every character with its place from 1, the word
// around it (between dots, slashes and colons), and whether only blanks and
// unseen characters stand on one side of it.
func eachRune(input string, do func(at int, word []rune, edge bool, r rune)) {
	runes := []rune(input)
	solid := func(r rune) bool { _, odd := strayName(r); return !odd && !isBlank(r) }
	first, last := len(runes), -1
	for i, r := range runes {
		if solid(r) {
			first, last = min(first, i), i
		}
	}
	for i, r := range runes {
		do(i+1, wordAt(runes, i), i < first || i > last, r)
	}
}

func wordAt(runes []rune, i int) []rune {
	apart := func(r rune) bool { return strings.ContainsRune("./:@[]?#", r) }
	from, to := i, i
	for from > 0 && !apart(runes[from-1]) {
		from--
	}
	for to < len(runes) && !apart(runes[to]) {
		to++
	}
	return runes[from:to]
}

// rawHost is the host with its stray characters still in place, as a program
// would look it up.
func rawHost(input, clean, cleanHost string) string {
	raw := input
	if _, after, ok := strings.Cut(raw, "://"); ok {
		raw = after
	}
	raw = strings.TrimRight(strings.SplitN(raw, "/", 2)[0], "\n")
	if at := strings.LastIndex(raw, ":"); at >= 0 && strings.Count(clean, ":") > 0 &&
		!strings.Contains(cleanHost, ":") {
		raw = raw[:at]
	}
	return raw
}
