//go:build linux

package linux

import (
	"net/url"
	"os"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/look/host/programfiles"
	"uakari/internal/program"
	"uakari/internal/redact"
	"uakari/internal/settingsfile"
)

// mostNamed bounds how many settings of a program are named.
const mostNamed = 12

// namedIn is where a program's settings name the endpoint's port or host, its
// certificate or what is behind it, each alone in its value.
func namedIn(p program.Program, sources []programfiles.Source, t fact.Target) []fact.NamedSetting {
	var list []fact.NamedSetting
	for _, from := range sources {
		values, err := settingsfile.Read(string(from.Text), p.Settings.Grammar)
		if err != nil {
			continue // what is no file of this grammar names nothing
		}
		for _, v := range values {
			is := ""
			switch one := []settingsfile.Value{v}; {
			case v.Off || redact.Secretive(v.Key): // proxy_pass too: a card may not name it, and the hops do
			case len(program.Found(one, p.Settings.Backend)) > 0:
				is = "backend"
			case v.Text == strconv.Itoa(int(t.Port)):
				is = "port"
			case t.Name != "" && strings.EqualFold(v.Text, t.Name):
				is = "host"
			case len(program.Found(one, p.Settings.Certificate)) > 0:
				is = "certificate"
			}
			if is != "" && len(list) < mostNamed && (is == "backend" && isBare(v.Text) ||
				redact.Value(v.Key, v.Text) == v.Text) {
				list = append(list, fact.NamedSetting{
					At: fact.SettingAt{File: from.Path, Format: p.Settings.Grammar, Key: v.Key}, Is: is, Value: v.Text,
				})
			}
		}
	}
	return list
}

// mostMarked bounds how many settings files are noted.
const mostMarked = 40

// Bounds on how many settings are kept, of one file and of a program's files.
const (
	mostSaid    = 60
	mostSaidAll = 200
)

// marked is what tells whether settings files are still what they are now, and of
// which grammar they are.
func marked(sources []programfiles.Source, grammar string) []fact.SettingsFile {
	var list []fact.SettingsFile
	left := mostSaidAll
	for _, from := range sources {
		if len(list) == mostMarked {
			break
		}
		f := fact.SettingsFile{Path: from.Path}
		if from.Err == nil {
			f.Mark = redact.Mark(string(from.Text))
			f.Says = said(string(from.Text), grammar, min(left, mostSaid))
			left -= len(f.Says)
		}
		if info, err := os.Stat(from.Path); err == nil {
			f.Changed = info.ModTime().UTC()
		}
		list = append(list, f)
	}
	return list
}

// said is the settings in a text whose values may be kept.
func said(text, grammar string, most int) (list []string) {
	values, err := settingsfile.Read(text, grammar)
	if err != nil {
		return nil // its mark tells
	}
	for _, v := range values {
		if kept := redact.Value(v.Key, v.Text); !v.Off && kept == v.Text && kept != "" && len(list) < most {
			list = append(list, v.Key+" = "+kept)
		}
	}
	return list
}

// isBare reports whether an address of something behind a server holds nothing
// but where it is.
func isBare(text string) bool {
	u, err := url.Parse(text)
	return err == nil && u.Host != "" && u.User == nil && u.RawQuery == "" && u.Fragment == ""
}
