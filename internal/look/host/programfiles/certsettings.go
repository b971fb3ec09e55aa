package programfiles

import (
	"cmp"
	"fmt"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"sync"

	"uakari/internal/fact"
	"uakari/internal/program"
)

// certSetting is where a program says which certificate it serves.
type certSetting struct{ program.Program }

// block is one block of settings with the certificates that it names.
type block struct {
	names         []string
	ports         []uint16
	pairs, stores []int // of the lists that are made
	demands       bool  // a certificate of clients
	versions      string
}

// pairs is the certificates that a settings file names, each with the key
// that follows it in the same block, and the stores by which clients are
// judged, and the versions of TLS for all of them. Relative paths begin at a folder.
func (s certSetting) pairs(text, path, folder string) ([]fact.CertPair, []fact.ClientStore, string) {
	r := pairReader{certSetting: s, folder: folder, stack: []*block{{}}}
	number := 0
	for line := range strings.Lines(text) {
		number++
		bare, _, _ := strings.Cut(strings.TrimSpace(line), "#")
		r.place = fmt.Sprintf("%s:%d", path, number)
		r.line(bare)
	}
	for range r.stack {
		r.settle()
	}
	if s.Name == program.PostgreSQL {
		data := dataFolder(text, path)
		for i := range r.stores {
			r.stores[i].Path = relocate(r.stores[i].Path, path, data)
		}
		return postgresPair(text, path, data, r.list, r.keys), r.stores, ""
	}
	return r.list, r.stores, r.versions
}

// pairReader is a settings file, read as far as one line.
type pairReader struct {
	certSetting
	folder string // where relative paths begin
	place  string // of the line
	stack  []*block
	list   []fact.CertPair
	stores []fact.ClientStore
	keys   []string
	// versions is those that a block names in which others are.
	versions string
}

// line takes the statements of a line, each in the block that it stands in: a line may open
// several, and end them.
func (r *pairReader) line(bare string) {
	tag := strings.ToLower(bare)
	switch {
	case strings.HasPrefix(tag, "<virtualhost"):
		r.open(bare)
	case strings.HasPrefix(tag, "</virtualhost"):
		r.end()
		return
	}
	for rest := bare; ; {
		i := strings.IndexAny(rest, ";{}")
		if i < 0 {
			r.statement(r.stack[len(r.stack)-1], rest)
			return
		}
		statement, mark := rest[:i], rest[i]
		rest = rest[i+1:]
		if mark == '{' {
			r.open(statement)
		}
		r.statement(r.stack[len(r.stack)-1], statement)
		if mark == '}' {
			r.end()
		}
	}
}

func (r *pairReader) open(head string) { r.stack = append(r.stack, &block{ports: portsIn(head)}) }

func (r *pairReader) end() {
	if len(r.stack) > 1 {
		r.settle()
	}
}

// settle ends the innermost block. The versions of one that is no site's own are those of all
// that are within it.
func (r *pairReader) settle() {
	last := len(r.stack) - 1
	b := r.stack[last]
	b.settle(r.list, r.stores)
	if len(b.names)+len(b.ports)+len(b.pairs) == 0 {
		r.versions = cmp.Or(b.versions, r.versions)
	}
	r.stack = r.stack[:last]
}

// statement takes what one statement says of the block's names and ports, and of
// certificates, keys and stores.
func (r *pairReader) statement(at *block, statement string) {
	words := strings.Fields(statement)
	if len(words) > 1 {
		switch strings.ToLower(words[0]) {
		case "server_name", "servername", "serveralias":
			at.names = append(at.names, words[1:]...)
		case "listen":
			at.ports = append(at.ports, portsIn(words[1])...)
		}
	}
	whole := len(r.Settings.Key) == 0 // the key is in the certificate's own file
	if value := r.value(r.Settings.Certificate, statement); value != "" {
		at.pairs = append(at.pairs, len(r.list))
		p := fact.CertPair{Program: r.Name, Place: r.place, Cert: value}
		if whole {
			p.Key, p.Ports = p.Cert, portsOf(words)
		}
		r.list, r.keys = append(r.list, p), append(r.keys, "")
	}
	if files, ok := strings.CutPrefix(statement, "smtpd_tls_chain_files"); ok && r.Name == program.Postfix {
		r.list = append(r.list, chainFiles(files, r.place)...)
	}
	if value := r.value(r.Settings.Clients, statement); value != "" {
		at.stores = append(at.stores, len(r.stores))
		store := fact.ClientStore{Program: r.Name, Place: r.place, Path: value}
		if whole {
			store.Ports = portsOf(words)
		}
		r.stores = append(r.stores, store)
	}
	if value := wholeOf(r.Settings.Versions, statement); value != "" {
		at.versions = value
	}
	if valueOf(r.Settings.Demands, statement) != "" {
		at.demands = true
	}
	if value := r.value(r.Settings.Key, statement); value != "" {
		r.keys = append(r.keys, value)
		for _, i := range slices.Backward(at.pairs) {
			if r.list[i].Key == "" {
				r.list[i].Key = value
				break
			}
		}
	}
}

// value is the path that a statement gives to one of some keys; "" for none, and for one
// that is made while the program runs.
func (r *pairReader) value(keys []program.Key, statement string) string {
	value := valueOf(keys, statement)
	if value == "" || strings.Contains(value, "$") {
		return ""
	}
	return inFolder(value, r.folder)
}

// settle gives a block's names and ports to its certificates and stores.
func (b *block) settle(list []fact.CertPair, stores []fact.ClientStore) {
	for _, i := range b.stores {
		stores[i].Names, stores[i].Ports = b.names, append(stores[i].Ports, b.ports...)
		stores[i].Demands = b.demands
	}
	for _, i := range b.pairs {
		list[i].Names, list[i].Ports = b.names, append(list[i].Ports, b.ports...)
		list[i].Versions = b.versions
	}
}

// wholeOf is all that a statement gives to one of some keys.
func wholeOf(keys []program.Key, statement string) string {
	if first := valueOf(keys, statement); first != "" {
		return strings.TrimSpace(statement[strings.Index(statement, first):])
	}
	return ""
}

// valueOf is the path that a statement gives to one of some keys; "" if it is
// about something else.
func valueOf(keys []program.Key, statement string) string {
	statement = strings.TrimSpace(statement)
	for _, k := range keys {
		name := strings.TrimSuffix(k.Name[strings.LastIndexByte(k.Name, '.')+1:], ":")
		if len(statement) <= len(name) || !strings.EqualFold(statement[:len(name)], name) ||
			!strings.ContainsRune(" \t=:", rune(statement[len(name)])) {
			continue
		}
		for _, part := range k.Part(strings.TrimLeft(statement[len(name):], " \t=:")) {
			part = strings.TrimLeft(part, "< \t")
			if part != "" && (part[0] == '"' || part[0] == '\'') {
				whole, _, _ := strings.Cut(part[1:], part[:1])
				return whole
			}
			fields := strings.FieldsFunc(part, func(r rune) bool { return strings.ContainsRune(" \t'\"<;#", r) })
			if len(fields) > 0 {
				return fields[0]
			}
		}
	}
	return ""
}

var portAtEnd = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`(?:^|:)(\d{1,5})(?:[>\s]|$)`) })

// portsOf is the ports that a statement names behind its key.
func portsOf(words []string) []uint16 {
	if len(words) < 2 {
		return nil
	}
	return portsIn(words[1])
}

func portsIn(text string) []uint16 {
	var ports []uint16
	for _, m := range portAtEnd().FindAllStringSubmatch(text, -1) {
		if n, err := strconv.ParseUint(m[1], 10, 16); err == nil {
			ports = append(ports, uint16(n))
		}
	}
	return ports
}

func inFolder(value, folder string) string {
	if filepath.IsAbs(value) {
		return value
	}
	return filepath.Join(folder, value)
}

// postgresPair is the one pair of PostgreSQL, whose files are in its data
// folder unless said otherwise, and count only where TLS is on (the manual's
// "Secure TCP/IP Connections with SSL").
func postgresPair(text, path, data string, list []fact.CertPair, keys []string) []fact.CertPair {
	if !regexp.MustCompile(`(?mi)^\s*ssl\s*=?\s*'?(?:on|true|yes|1)\b`).MatchString(text) {
		return nil
	}
	p := fact.CertPair{
		Program: program.PostgreSQL,
		Place:   path,
		Cert:    filepath.Join(data, "server.crt"),
		Key:     filepath.Join(data, "server.key"),
	}
	if len(list) > 0 {
		last := list[len(list)-1]
		p.Place, p.Cert = last.Place, relocate(last.Cert, path, data)
	}
	if key := slices.IndexFunc(keys, func(k string) bool { return k != "" }); key >= 0 {
		p.Key = relocate(keys[key], path, data)
	}
	return []fact.CertPair{p}
}

// chainFiles is the pair of files that Postfix is given as one list: a key,
// then its certificate, in one file or in two (postconf(5)).
func chainFiles(text, place string) []fact.CertPair {
	files := strings.FieldsFunc(text, func(r rune) bool { return strings.ContainsRune("=, \t", r) })
	if len(files) != 1 && len(files) != 2 {
		return nil // several, of which the client's choice decides
	}
	return []fact.CertPair{{Program: program.Postfix, Place: place, Key: files[0], Cert: files[len(files)-1]}}
}

// dataFolder is the data folder that settings of PostgreSQL name, or the one
// that they are in.
func dataFolder(text, path string) string {
	if m := regexp.MustCompile(`(?m)^\s*data_directory\s*=?\s*'([^']+)'`).FindStringSubmatch(text); m != nil {
		return m[1]
	}
	return filepath.Dir(path)
}

// relocate moves a file that was taken to be beside the settings into the
// data folder, which relative paths of PostgreSQL begin at.
func relocate(file, settings, data string) string {
	if rest, ok := strings.CutPrefix(file, filepath.Dir(settings)+"/"); ok && !strings.Contains(rest, "/") {
		return filepath.Join(data, rest)
	}
	return file
}
