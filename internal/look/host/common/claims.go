package common

import (
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"
)

// How commands, settings and logs say which port is a program's.

// SettingsEnds is how files of settings are called.
var SettingsEnds = []string{
	".conf", ".cfg", ".cf", ".ini", ".toml", ".yaml", ".yml", ".json",
	".properties", ".xml", ".config", ".rc", ".lua", ".inc",
}

// SettingsOf reports whether a file beside a program is its settings by its name: called like
// the program ("tidebook.ini", "tidebook.exe.config"), or as programs of .NET call theirs
// ("appsettings.json", "appsettings.Production.json").
func SettingsOf(file, program string) bool {
	file, program = strings.ToLower(file), strings.TrimSuffix(strings.ToLower(program), ".exe")
	if strings.HasSuffix(file, ".uakari.json") {
		return false // a record of ours
	}
	rest, ok := strings.CutPrefix(file, program)
	return ok && strings.HasPrefix(rest, ".") ||
		strings.HasPrefix(file, "appsettings.") && strings.HasSuffix(file, ".json")
}

// NamesPort reports whether a word of a command or of a socket unit is about a
// port: the number stands alone, or behind a colon or an equals sign.
func NamesPort(word string, port uint16) bool {
	if !strings.Contains(word, strconv.Itoa(int(port))) {
		return false
	}
	return regexp.MustCompile(`(?:^|[:=\s\]])` + strconv.Itoa(int(port)) + `(?:$|[/\s,;])`).MatchString(word)
}

// SettingNamesPort reports whether a settings file has a line that gives the
// port to something that listens.
func SettingNamesPort(text string, port uint16) bool {
	if !strings.Contains(text, strconv.Itoa(int(port))) {
		return false // most have no such number, and expressions are slow
	}
	number := regexp.MustCompile(`(?:^|[^\d.])` + strconv.Itoa(int(port)) + `(?:$|[^\d.])`)
	about := regexp.MustCompile(`(?i)port|listen|bind|addr|endpoint|interface|(?:^|[\s="'@/,(])` +
		`(?:|\*|localhost|\d{1,3}(?:\.\d{1,3}){3}|\[[0-9a-f:]*\]|[\w-]+(?:\.[\w-]+)+):` + strconv.Itoa(int(port)) +
		`\b|(?:\d{1,3}(?:\.\d{1,3}){3}|::[0-9a-f:]*)["']?[ \t,]+["']?` + strconv.Itoa(int(port)) + `\b`)
	if strings.Contains(text, "<!--") {
		text = marked().ReplaceAllString(text, "")
	}
	for line := range strings.Lines(text) {
		line = strings.TrimSpace(line)
		if line == "" || strings.ContainsAny(line[:1], "#;/!") {
			continue
		}
		if number.MatchString(line) && about.MatchString(line) && !elsewhere().MatchString(line) {
			return true
		}
	}
	return false
}

// marked is a comment of XML, of however many lines.
var marked = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?s)<!--.*?-->`) })

// elsewhere is words of settings that name what others listen on: backends, and checks.
var elsewhere = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`(?i)\bif\b|\bfail|upstream|backend|proxy_?pass|\bconnect\b|\bforward`)
})

// SettingNamesService reports whether a settings file of a server for others, inetd(8) or
// one of its kind, has a line for a service by one of its names (services(5)).
func SettingNamesService(text string, names []string) bool {
	for line := range strings.Lines(text) {
		f := strings.Fields(line)
		if len(f) > 1 && (slices.Contains(names, f[0]) && (f[1] == "stream" || f[1] == "dgram") ||
			f[0] == "service" && slices.Contains(names, f[1])) {
			return true
		}
	}
	return false
}

// CommentNamesPort reports whether a settings file tells in a comment that a port is
// the default: a setting of a port that is commented out, with this number, or the place
// of this very server on its own host.
func CommentNamesPort(text string, port uint16) bool {
	if !strings.Contains(text, strconv.Itoa(int(port))) {
		return false
	}
	// "# port 2812", "# http://localhost:2812", "# PORT NUMBER default is 2812"
	return regexp.MustCompile(strings.ReplaceAll(`(?im)^\s*[#;]+\s*(?:[\w .-]*port[\w.-]*\s*[:= \t]\s*["']?%d["']?\s*;?`+
		`\s*$|.*://(?:localhost|127\.0\.0\.1|\[::1\]):%d\b|.*port.{0,40}\bdefaults?\b[^\d\n]{0,20}\b%d\b|`+
		`.*\bdefault port\b[^\d\n]{0,20}\b%d\b)`, "%d", strconv.Itoa(int(port)))).
		MatchString(text)
}

// SaidPort reports whether a line of a log is about a port.
func SaidPort(line string, port uint16) bool {
	if !strings.Contains(line, strconv.Itoa(int(port))) {
		return false
	}
	return regexp.MustCompile(`(?i)(?:\d{1,3}(?:\.\d{1,3}){3}:|\]:|\*:|::|port[ :=#"]+)` + strconv.Itoa(int(port)) +
		`\b`).
		MatchString(line)
}

// listens and ofOthers are words of what listens, and of what writes of others. They are made
// when they are needed: a start should cost little.
var (
	listens = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)\b(?:listen\w*|bound|binding|serving|serves|start(?:ed|ing)|accepting|` +
			`available (?:at|on)|running (?:on|at))\b`)
	})
	ofOthers = sync.OnceValue(func() *regexp.Regexp {
		return regexp.MustCompile(`(?i)fail|refused|\bdown\b|cannot|can't|unable|error|time[d ]*out|connect\w* to|` +
			`upstream|backend|target|peer`)
	})
)

// SaidListening reports whether a line of a log says that whoever wrote it listens on a
// port: gateways and watchers write of the ports of others.
func SaidListening(line string, port uint16) bool {
	return SaidPort(line, port) && listens().MatchString(line) && !ofOthers().MatchString(line)
}
