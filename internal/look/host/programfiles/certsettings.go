package programfiles

import (
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
}

// pairs is the certificates that a settings file names, each with the key
// that follows it in the same block, and the stores by which clients are
// judged. Relative paths begin at a folder.
func (s certSetting) pairs(text, path, folder string) ([]fact.CertPair, []fact.ClientStore) {
	var list []fact.CertPair
	var stores []fact.ClientStore
	var keys []string
	stack := []*block{{}}
	number := 0
	for line := range strings.Lines(text) {
		number++
		bare, _, _ := strings.Cut(strings.TrimSpace(line), "#")
		at := stack[len(stack)-1]
		opens := strings.Count(bare, "{") - strings.Count(bare, "}")
		switch {
		case opens > 0 || strings.HasPrefix(strings.ToLower(bare), "<virtualhost"):
			at = &block{ports: portsIn(bare)}
			stack = append(stack, at)
		case opens < 0 || strings.HasPrefix(strings.ToLower(bare), "</virtualhost"):
			if len(stack) > 1 {
				at.settle(list, stores)
				stack = stack[:len(stack)-1]
			}
		}
		for _, statement := range strings.FieldsFunc(bare, func(r rune) bool {
			return r == ';' || r == '{' ||
				r == '}'
		}) {
			words := strings.Fields(statement)
			if len(words) > 1 &&
				(strings.EqualFold(words[0], "server_name") || strings.EqualFold(words[0], "servername") ||
					strings.EqualFold(words[0], "serveralias")) {
				at.names = append(at.names, words[1:]...)
			}
			if len(words) > 1 && strings.EqualFold(words[0], "listen") {
				at.ports = append(at.ports, portsIn(words[1])...)
			}
			if value := valueOf(s.Settings.Certificate, statement); value != "" && !strings.Contains(value, "$") {
				at.pairs = append(at.pairs, len(list))
				list = append(
					list,
					fact.CertPair{
						Program: s.Name,
						Place:   fmt.Sprintf("%s:%d", path, number),
						Cert:    inFolder(value, folder),
					},
				)
				keys = append(keys, "")
				if len(s.Settings.Key) == 0 {
					list[len(list)-1].Key = list[len(list)-1].Cert
					list[len(list)-1].Ports = portsOf(words)
				}
			}
			if files, ok := strings.CutPrefix(statement, "smtpd_tls_chain_files"); ok && s.Name == program.Postfix {
				list = append(list, chainFiles(files, fmt.Sprintf("%s:%d", path, number))...)
			}
			if value := valueOf(s.Settings.Clients, statement); value != "" && !strings.Contains(value, "$") {
				at.stores = append(at.stores, len(stores))
				stores = append(
					stores,
					fact.ClientStore{
						Program: s.Name,
						Place:   fmt.Sprintf("%s:%d", path, number),
						Path:    inFolder(value, folder),
					},
				)
				if len(s.Settings.Key) == 0 {
					stores[len(stores)-1].Ports = portsOf(words)
				}
			}
			if len(s.Settings.Key) == 0 {
				continue
			}
			if value := valueOf(s.Settings.Key, statement); value != "" && !strings.Contains(value, "$") {
				keys = append(keys, inFolder(value, folder))
				for _, i := range slices.Backward(at.pairs) {
					if list[i].Key == "" {
						list[i].Key = inFolder(value, folder)
						break
					}
				}
			}
		}
	}
	for _, b := range stack {
		b.settle(list, stores)
	}
	if s.Name == program.PostgreSQL {
		data := dataFolder(text, path)
		for i := range stores {
			stores[i].Path = relocate(stores[i].Path, path, data)
		}
		return postgresPair(text, path, data, list, keys), stores
	}
	return list, stores
}

// settle gives a block's names and ports to its certificates and stores.
func (b *block) settle(list []fact.CertPair, stores []fact.ClientStore) {
	for _, i := range b.stores {
		stores[i].Names, stores[i].Ports = b.names, append(stores[i].Ports, b.ports...)
	}
	for _, i := range b.pairs {
		list[i].Names, list[i].Ports = b.names, append(list[i].Ports, b.ports...)
	}
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
