// Package library reads which TLS library programs of this host use, and what
// its settings let it speak. What the library of this very program would
// accept is not what theirs accepts.
package library

import (
	"debug/buildinfo"
	"debug/elf"
	"errors"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/look/file"
)

// Root is where paths begin; tests have their own.
type Root string

// folders is where shared libraries are.
var folders = []string{
	"/lib/*-linux-gnu*",
	"/usr/lib/*-linux-gnu*",
	"/lib64",
	"/usr/lib64",
	"/lib",
	"/usr/lib",
	"/usr/local/lib",
}

// known is libraries by the beginning of their file's name.
var known = []struct{ prefix, name string }{
	{"libssl.so.3", "OpenSSL 3"},
	{"libssl.so.1.1", "OpenSSL 1.1"},
	{"libgnutls.so", "GnuTLS"},
	{"libssl3.so", "NSS"},
	{"libnss3.so", "NSS"},
}

// System is the library that a system has of its own, and how it is set; nil where it
// has none.
var System func() (fact.Library, error)

// Read says which library a client program uses and how it is set; of "", which
// one most programs of this host use.
func (r Root) Read(program string) fact.Library {
	l := fact.Library{Program: program}
	switch path, err := exec.LookPath(program); {
	case program == "":
		for _, k := range known[:2] {
			if r.find(k.prefix) != "" {
				l.Name = k.name
				break
			}
		}
	case err == nil:
		l.Name, l.Sure = r.usedBy(path)
	}
	switch {
	case strings.HasPrefix(l.Name, "OpenSSL"):
		r.openSSL(&l)
	case l.Name == "GnuTLS":
		r.gnuTLS(&l)
	case l.Name == "Go":
		l.Min, l.Level = "TLS 1.2", -1
	default:
		l.Level = -1
	}
	return l
}

func (r Root) find(name string) string {
	for _, folder := range folders {
		found, err := filepath.Glob(string(r) + filepath.Join(folder, name))
		if err == nil && len(found) > 0 {
			return found[0]
		}
	}
	return ""
}

// usedBy is the library that a program is linked to, by itself or through
// others: the nearest counts, and where two are as near, none is sure.
func (r Root) usedBy(path string) (name string, sure bool) {
	const deepest, most = 5, 200
	level, seen := []string{path}, map[string]bool{}
	for range deepest {
		var next, found []string
		for _, file := range level {
			needed, err := needs(file)
			if err != nil {
				continue
			}
			for _, lib := range needed {
				if seen[lib] || len(seen) > most {
					continue
				}
				seen[lib] = true
				if i := slices.IndexFunc(known, func(k struct {
					prefix,
					name string
				}) bool {
					return strings.HasPrefix(lib, k.prefix)
				}); i >= 0 &&
					!slices.Contains(found, known[i].name) {
					found = append(found, known[i].name)
				}
				if at := r.find(lib); at != "" {
					next = append(next, at)
				}
			}
		}
		if len(found) > 0 {
			return found[0], len(found) == 1
		}
		if len(next) == 0 {
			break
		}
		level = next
	}
	if _, err := buildinfo.ReadFile(path); err == nil {
		return "Go", true
	}
	return "", false
}

func needs(path string) ([]string, error) {
	f, err := elf.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	return f.ImportedLibraries()
}

// settingsFiles is where OpenSSL's settings are, unless the environment names
// another file.
var settingsFiles = []string{
	"/etc/ssl/openssl.cnf",
	"/etc/pki/tls/openssl.cnf",
	"/usr/lib/ssl/openssl.cnf",
	"/usr/local/ssl/openssl.cnf",
}

// openSSL reads the defaults for all programs (config(5), SSL_CONF_cmd(3)).
func (r Root) openSSL(l *fact.Library) {
	l.Level = 1
	if text, err := file.Head(string(r)+"/etc/os-release", file.MostSettings); err == nil &&
		strings.Contains(string(text), "debian") {
		l.Level = 2 // as Debian, and what is made of it, builds it
	}
	files := settingsFiles
	if own := os.Getenv("OPENSSL_CONF"); own != "" {
		files = []string{own}
	}
	set, ciphers := map[string]string{}, "DEFAULT"
	for _, each := range files {
		sections, err := r.sections(string(r) + each)
		if errors.Is(err, os.ErrNotExist) {
			continue
		}
		l.Place = each
		if err != nil {
			l.Unread = err.Error()
			return
		}
		set = sections[sections[sections[sections[""]["openssl_conf"]]["ssl_conf"]]["system_default"]]
		break
	}
	for key, value := range set {
		switch key, _ = strings.CutPrefix(key, "TLS."); key {
		case "MinProtocol":
			l.Min = versionName(value)
		case "MaxProtocol":
			l.Max = versionName(value)
		case "CipherString":
			ciphers = value
		case "Ciphersuites":
			l.NewSuites = strings.FieldsFunc(value, func(r rune) bool { return r == ':' || r == ' ' })
		}
	}
	codes, level, err := choose(ciphers)
	if err != nil {
		l.Unread = "CipherString: " + err.Error()
	}
	if level >= 0 {
		l.Level = level
	}
	l.Suites = atLevel(codes, l.Level)
	if l.Name == "OpenSSL 3" && l.Level >= 1 && l.Min < "TLS 1.2" {
		l.Min = "TLS 1.2" // below, only level 0 lets it speak
	}
}

// versionName is a version as it is written elsewhere; "" for none.
func versionName(setting string) string {
	return map[string]string{"TLSv1": "TLS 1.0", "TLSv1.0": "TLS 1.0", "TLSv1.1": "TLS 1.1", "TLSv1.2": "TLS 1.2",
		"TLSv1.3": "TLS 1.3"}[setting]
}

// sections reads the sections of a settings file and of what it includes.
func (r Root) sections(path string) (map[string]map[string]string, error) {
	all, left := map[string]map[string]string{}, 20
	section := ""
	var read func(path string) error
	read = func(path string) error {
		if left--; left < 0 {
			return errors.New("too many included files")
		}
		text, err := file.Head(path, file.MostSettings)
		if err != nil {
			return err
		}
		for line := range strings.Lines(string(text)) {
			line, _, _ = strings.Cut(strings.TrimSpace(line), "#")
			line = strings.TrimSpace(line)
			if rest, ok := strings.CutPrefix(line, ".include"); ok {
				included := string(r) + strings.Trim(rest, " \t=\"")
				if info, err := os.Stat(included); err == nil && info.IsDir() {
					files, err := filepath.Glob(filepath.Join(included, "*.c*nf"))
					if err != nil {
						return err
					}
					for _, each := range files {
						if err := read(each); err != nil {
							return err
						}
					}
				} else if err := read(included); err != nil && !errors.Is(err, os.ErrNotExist) {
					return err
				}
				continue
			}
			if strings.HasPrefix(line, "[") {
				section = strings.Trim(line, "[] \t")
				continue
			}
			if key, value, ok := strings.Cut(line, "="); ok {
				if all[section] == nil {
					all[section] = map[string]string{}
				}
				all[section][strings.TrimSpace(key)] = strings.Trim(strings.TrimSpace(value), `"'`)
			}
		}
		return nil
	}
	err := read(path)
	return all, err
}

// gnuTLS reads which versions are switched off for all programs (the GnuTLS
// manual, "System-wide configuration"). How strong keys must be is not read.
func (r Root) gnuTLS(l *fact.Library) {
	l.Level, l.Place = -1, "/etc/gnutls/config"
	text, err := file.Head(string(r)+l.Place, file.MostSettings)
	if err != nil && !errors.Is(err, os.ErrNotExist) {
		l.Unread = err.Error()
	}
	off := map[string]bool{}
	for line := range strings.Lines(string(text)) {
		if key, value, ok := strings.Cut(line, "="); ok && strings.TrimSpace(key) == "disabled-version" {
			off[versionName("TLSv"+strings.TrimPrefix(strings.ToLower(strings.TrimSpace(value)), "tls"))] = true
		}
	}
	for _, version := range []string{"TLS 1.0", "TLS 1.1", "TLS 1.2", "TLS 1.3"} {
		if !off[version] && l.Min == "" {
			l.Min = version
		}
		if !off[version] {
			l.Max = version
		}
	}
}
