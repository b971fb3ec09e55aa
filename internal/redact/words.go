package redact

import (
	"path"
	"strings"
)

// mostWords bounds what is kept of a command line, in characters.
const mostWords = 200

// numeric are options whose value is a number that is no secret.
var numeric = words(`port listen workers threads backlog jobs processes timeout interval`)

// Words is what is kept of a command line: the program, names of options, and
// those values that are known to be harmless: a path that is there, an address,
// a host name. The function says whether there is a file of that path.
func Words(args []string, there func(string) bool) string {
	if len(args) == 0 {
		return ""
	}
	kept := []string{program(args[0])}
	last := "" // the option that the next word may be the value of
	for _, word := range args[1:] {
		shown, option := commandWord(word, last, there)
		kept, last = append(kept, shown), option
	}
	text := []rune(strings.Join(kept, " "))
	if len(text) > mostWords {
		text = append(text[:mostWords-1], '…')
	}
	return string(text)
}

// program is the first word: a path or a name. Some programs write a whole
// title over it, of which only the beginning is a name.
func program(word string) string {
	if isPath(word) || simple(word) && !strings.ContainsAny(word, " :=@") {
		return word
	}
	name, _, _ := strings.Cut(word, " ")
	if name = strings.TrimSuffix(name, ":"); simple(name) && !strings.ContainsAny(name, ":=@") {
		return name + ": " + Hidden
	}
	return Hidden
}

// commandWord is what is kept of one word, and the option that it is.
func commandWord(word, last string, there func(string) bool) (shown, option string) {
	harmlessValue := func(name, value string) bool {
		if Secretive(name) {
			return false
		}
		list := wordsOf(name)
		if len(list) > 0 && numeric[list[len(list)-1]] && isTyped(value) {
			return true
		}
		return strings.HasPrefix(value, "/") && there(value) || isAddress(value) || hostShape().MatchString(value)
	}
	name := strings.TrimLeft(word, "-")
	switch {
	case word == "--" || word == "-":
		return word, ""
	case strings.HasPrefix(word, "--") || len(word) == 2 && word[0] == '-':
		before, value, valued := strings.Cut(word, "=")
		switch {
		case !optionShape(strings.TrimLeft(before, "-")):
			return Hidden, ""
		case !valued:
			return word, name
		case harmlessValue(before, value):
			return word, ""
		}
		return before + "=" + Hidden, ""
	case strings.HasPrefix(word, "-") && len(word) > 2 && harmlessValue(word[1:2], word[2:]):
		return word, ""
	case strings.HasPrefix(word, "-"):
		return word[:2] + Hidden, ""
	case harmlessValue(last, word):
		return word, ""
	}
	if before, value, valued := strings.Cut(word, "="); valued && optionShape(before) {
		if harmlessValue(before, value) {
			return word, ""
		}
		return before + "=" + Hidden, ""
	}
	return Hidden, ""
}

// optionShape reports whether a word has the shape of an option's name.
func optionShape(name string) bool {
	return name != "" && len(name) <= 40 && strings.IndexFunc(name, func(r rune) bool {
		return !(r >= 'a' && r <= 'z' || r >= 'A' && r <= 'Z' || r >= '0' && r <= '9' || r == '-' || r == '_' ||
			r == '.')
	}) < 0
}

// logEnds are ends of names of files that are logs.
var logEnds = []string{".log", ".out", ".err", ".txt", ".csv", ".jsonl", ".trace"}

// logFolders are folders that hold logs and nothing else.
var logFolders = words(`log logs journal spool`)

// LogFile reports whether a file that somebody calls a log is one by its place
// or its name: a key or a list of accounts is none, whoever says so.
func LogFile(file string) bool {
	base := strings.ToLower(path.Base(file))
	for strings.ContainsAny(base[len(base)-1:], "0123456789") && strings.Contains(base, ".") { // "app.log.1"
		base = strings.TrimRight(base, "0123456789")
		base = strings.TrimRight(base, ".-")
	}
	for _, end := range logEnds {
		if strings.HasSuffix(base, end) {
			return true
		}
	}
	if strings.HasPrefix(base, "log.") || base == "log" || base == "logfile" || base == "syslog" ||
		base == "messages" ||
		base == "maillog" {
		return true
	}
	for folder := range strings.SplitSeq(path.Dir(file), "/") {
		if logFolders[strings.ToLower(folder)] {
			return !strings.HasSuffix(base, ".key") && !strings.HasSuffix(base, ".pem") &&
				!strings.HasSuffix(base, ".p12")
		}
	}
	return false
}

// LogLine is what is kept of a line of a log: what a positive list knows (positive.go) of
// what Said keeps; more is words that are harmless beside those of the list.
func LogLine(line string, more ...map[string]bool) string {
	s := sieve{}
	if len(more) > 0 {
		s.more = more[0]
	}
	return s.positive(Said(line))
}

// Said is what is kept of words that a server said to us: all but what may be a secret
// (loglines.go), and accounts in URLs.
func Said(line string) string {
	if strings.Contains(line, "PRIVATE KEY-----") {
		return Hidden
	}
	return hideBehind(hideForms(secretsIn().ReplaceAllStringFunc(line, func(found string) string {
		if strings.Contains(found, "://") {
			if kept, ok := URL(found); ok {
				return kept
			}
			return found[:strings.Index(found, "://")+3] + Hidden
		}
		return found[:strings.IndexAny(found, "=:")+1] + Hidden
	})))
}
