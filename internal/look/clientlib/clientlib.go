// Package clientlib reads by which settings the client programs of a protocol connect: the
// environment and the files of their library, in its order of precedence. Secrets are never
// read.
package clientlib

import (
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/look/file"
	"uakari/internal/protocol"
)

// libraries is what reads the settings of a protocol's clients.
var libraries = map[protocol.Library]func(said url.Values, program string) fact.ClientWay{
	protocol.Libpq: libpq, protocol.OptionFiles: optionFiles, protocol.LDAPConf: ldapConf,
	protocol.WebPrograms: webPrograms,
}

// For is how the programs of an endpoint's protocol connect from here, or the one that is
// named ("curl"); false where no library is known that they have in common, or nothing is set.
func For(e fact.Endpoint, program string) (fact.ClientWay, bool) {
	scheme, _ := protocol.Lookup(e.Scheme)
	speaks := protocol.Of(scheme.Wire)
	read := libraries[speaks.Clients]
	if read == nil {
		return fact.ClientWay{}, false
	}
	_, query, _ := strings.Cut(e.Path, "?")
	said, err := url.ParseQuery(query)
	if err != nil || speaks.Entries {
		said = url.Values{} // a search, and no parameters
	}
	way := read(said, program)
	return way, len(way.Settings) > 0
}

// found is the values of one library, the first that is said for a name wins.
type found struct{ list []fact.ClientSetting }

// say adds a value. One that an earlier source said is overridden by that.
func (f *found) say(name, value, at string) {
	for i := range f.list {
		if f.list[i].Name == name {
			f.list[i].Over = append(f.list[i].Over, at)
			return
		}
	}
	f.list = append(f.list, fact.ClientSetting{Name: name, Value: value, At: at})
}

// get is a value; "" if nothing says it.
func (f *found) get(name string) string {
	for _, s := range f.list {
		if s.Name == name {
			return s.Value
		}
	}
	return ""
}

// home is a path below the home of this account; "" without one.
func home(parts ...string) string {
	dir, err := os.UserHomeDir()
	if err != nil {
		return ""
	}
	return filepath.Join(append([]string{dir}, parts...)...)
}

// isFile reports whether a file is there.
func isFile(path string) bool {
	info, err := os.Stat(path)
	return path != "" && err == nil && !info.IsDir()
}

// line is one line of a file, without what stands around it, and its place.
type line struct{ text, at string }

// lines is the lines of a file; none of one that is not there, as the libraries do.
func lines(path string) (list []line) {
	if path == "" {
		return nil
	}
	text, err := file.Head(path, file.MostSettings)
	if err != nil {
		return nil
	}
	number := 0
	for each := range strings.Lines(string(text)) {
		number++
		list = append(list, line{strings.TrimSpace(each), fmt.Sprintf("%s:%d", path, number)})
	}
	return list
}

// environment is where a variable stands.
func environment(name string) string { return "the environment, " + name }

// joined puts a file of roots and one of revocation lists together.
func joined(roots, lists string) string {
	if roots != "" && lists != "" {
		return roots + "," + lists
	}
	return roots
}
