// Package card reads cards ("uakari.card/1"): YAML files that say what a
// healthy application looks like.
package card

import (
	"encoding/hex"
	"fmt"
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/protocol"
	"uakari/internal/redact"
	"uakari/internal/settingsfile"
	"uakari/internal/yamlfile"
)

// Format names the file format.
const Format = "uakari.card/1"

// MostBytes bounds a card file.
const MostBytes = 1 << 20

// Parse reads a card from text; path names it in errors, with line and column.
func Parse(path string, text []byte) (*fact.Card, error) {
	var c fact.Card
	if err := yamlfile.Decode(path, text, &c); err != nil {
		return nil, err
	}
	places, err := yamlfile.PlacesOf(path, text)
	if err != nil {
		return nil, err
	}
	k := checker{places: places}
	k.check(&c)
	if k.err != nil {
		return nil, k.err
	}
	return &c, nil
}

// checker finds values that make no sense; the first is kept.
type checker struct {
	places yamlfile.Places
	err    error
}

func (k *checker) wrong(at, format string, args ...any) {
	if k.err == nil {
		k.err = k.places.Wrong(at, format, args...)
	}
}

// Formats are the formats of settings files that can be read.
var Formats = settingsfile.Grammars()

// Versions are the versions of TLS that a card may name.
var Versions = []string{"TLS 1.0", "TLS 1.1", "TLS 1.2", "TLS 1.3"}

// meanings are what a setting may have to be.
var meanings = []string{"host", "port", "address", "url", "security", "same", "value", "one-of"}

func (k *checker) check(c *fact.Card) {
	switch {
	case c.Format != Format:
		k.wrong("$.format", "format %q; expected %q", c.Format, Format)
	case c.Name == "":
		k.wrong("$", "the card has no name; expected a line like: name: tidebook")
	}
	k.duration("$.fresh", c.Fresh)
	for i, version := range c.ClientTLS {
		if !slices.Contains(Versions, version) {
			k.wrong(fmt.Sprintf("$.client-tls[%d]", i), "%q; expected one of %s", version,
				strings.Join(Versions, ", "))
		}
	}
	k.duration("$.limit", c.Limit)
	k.endpoint("$.endpoint", c.Endpoint)
	for i, h := range c.Hops {
		k.endpoint(fmt.Sprintf("$.hops[%d]", i), h)
	}
	for i, p := range c.Pairs {
		at := fmt.Sprintf("$.pairs[%d]", i)
		if p.Endpoint == "" {
			k.wrong(at, "expected an endpoint, or endpoint: with trust: and metadata:")
		}
		k.endpoint(at, p.Endpoint)
		if kept, ok := redact.URL(p.Metadata); p.Metadata != "" &&
			(!ok || kept != p.Metadata || !webURL(p.Metadata)) {
			k.wrong(at+".metadata", "expected an http or https URL without an account or a secret in it")
		}
	}
	for i, net := range c.From {
		if _, err := netip.ParsePrefix(net); err != nil {
			if _, err := netip.ParseAddr(net); err != nil {
				k.wrong(fmt.Sprintf("$.from[%d]", i), "%q; expected an address or a net like 10.20.7.0/24", net)
			}
		}
	}
	for i, p := range c.PortMap {
		at := fmt.Sprintf("$.port-map[%d]", i)
		if (p.Port == 0) == (p.Range == "") {
			k.wrong(at, "expected either port: 443 or range: 50000-50100")
		}
		if _, _, ok := PortRange(p.Range); p.Range != "" && !ok {
			k.wrong(at+".range", "%q; expected two ports like 50000-50100", p.Range)
		}
	}
	for i := range c.Settings {
		k.setting(fmt.Sprintf("$.settings[%d]", i), &c.Settings[i])
	}
	for i, s := range c.Signs {
		k.sign(fmt.Sprintf("$.signs[%d]", i), s)
	}
	if c.Account != nil {
		for i, r := range c.Account.Rights {
			k.right(fmt.Sprintf("$.account.rights[%d]", i), r)
		}
	}
	k.talk(c.Talk)
	for i, r := range c.Reasons {
		at := fmt.Sprintf("$.reasons[%d]", i)
		k.pattern(at+".log", r.Log)
		if rung, name, ok := strings.Cut(r.Cause, "/"); !ok || rung == "" || name == "" {
			k.wrong(at+".cause", "%q; expected a cause like login/locked, see: uakari explain", r.Cause)
		}
	}
}

// PortRange reads "50000-50100".
func PortRange(text string) (from, to uint16, ok bool) {
	a, b, found := strings.Cut(text, "-")
	low, err := strconv.ParseUint(strings.TrimSpace(a), 10, 16)
	high, err2 := strconv.ParseUint(strings.TrimSpace(b), 10, 16)
	return uint16(low), uint16(high), found && err == nil && err2 == nil && low > 0 && low <= high
}

// webURL reports whether a URL is of a page.
func webURL(text string) bool {
	name, _, _ := strings.Cut(text, "://")
	scheme, ok := protocol.Lookup(strings.ToLower(name))
	return ok && protocol.Of(scheme.Wire).Web && scheme.Name == protocol.WebScheme(scheme.Security)
}

// talk wants each step to be one thing.
func (k *checker) talk(t *fact.Talk) {
	if t == nil {
		return
	}
	if len(t.Steps) == 0 {
		k.wrong("$.talk", "the talk has no steps")
	}
	for i, s := range t.Steps {
		at := fmt.Sprintf("$.talk.steps[%d]", i)
		count := 0
		for _, part := range []string{s.Expect, s.Send, s.Hex, s.TLS} {
			if part != "" {
				count++
			}
		}
		if count != 1 {
			k.wrong(at, "expected one of expect, send, hex and tls")
		}
		if _, err := regexp.Compile(s.Expect); err != nil {
			k.wrong(at+".expect", "%q is no regular expression", s.Expect)
		}
		if _, err := hex.DecodeString(strings.Join(strings.Fields(s.Hex), "")); err != nil {
			k.wrong(at+".hex", "%q is not hexadecimal", s.Hex)
		}
		if s.TLS != "" && s.TLS != "start" {
			k.wrong(at+".tls", `%q; expected "start"`, s.TLS)
		}
		k.duration(at+".within", s.Within)
	}
	for i, m := range t.Means {
		at := fmt.Sprintf("$.talk.means[%d]", i)
		k.pattern(at+".words", m.Words)
		if m.Cause == "" {
			k.wrong(at, "expected a cause, such as login/rejected")
		}
	}
}

func (k *checker) duration(at, text string) {
	if text == "" {
		return
	}
	if d, err := time.ParseDuration(text); err != nil || d <= 0 {
		k.wrong(at, "%s %q; expected a time like 10m", at[strings.LastIndexByte(at, '.')+1:], text)
	}
}

func (k *checker) endpoint(at, text string) {
	if text == "" {
		return
	}
	if _, err := endpoint.Parse(text); err != nil {
		k.wrong(at, "%v", err)
	}
}

func (k *checker) pattern(at, text string) {
	if text == "" {
		return
	}
	if _, err := regexp.Compile(text); err != nil {
		k.wrong(at, "%q is no regular expression: %v", text, err)
	}
}

func (k *checker) setting(at string, s *fact.SettingRule) {
	switch {
	case s.Is == "" && s.Value == "" && len(s.OneOf) == 0:
		k.wrong(at, "expected is: %s, or value: …", strings.Join(meanings, ", "))
	case s.Is != "" && !slices.Contains(meanings, s.Is):
		k.wrong(at+".is", "%q; expected one of %s", s.Is, strings.Join(meanings, ", "))
	case s.Is == "value" && s.Value == "":
		k.wrong(at, "is: value, and no value; expected value: …")
	case s.Is == "one-of" && len(s.OneOf) == 0:
		k.wrong(at, "is: one-of, and no values; expected one-of: [TEXT, …]")
	case s.Client == nil && s.Server == nil && len(s.Copies) == 0:
		k.wrong(at, "expected client: or server:, with file, format and key")
	case s.Is == "same" && places(s) < 2:
		k.wrong(at, "same: what with? Expected client: and server:, or copies:")
	}
	switch {
	case s.Is == "" && s.Value != "":
		s.Is = "value"
	case s.Is == "":
		s.Is = "one-of"
	}
	if s.Client != nil {
		k.settingAt(at+".client", s.Name, s.Client)
	}
	if s.Server != nil {
		k.settingAt(at+".server", s.Name, s.Server)
	}
	for i := range s.Copies {
		each, here := &s.Copies[i], fmt.Sprintf("%s.copies[%d]", at, i)
		if each.On != "" && each.On != "client" && each.On != "server" {
			k.wrong(here+".on", "on %q; expected client or server", each.On)
		}
		k.settingAt(here, s.Name, each)
	}
}

// places is at how many places a setting stands.
func places(s *fact.SettingRule) int {
	n := len(s.Copies)
	for _, at := range []*fact.SettingAt{s.Client, s.Server} {
		if at != nil {
			n++
		}
	}
	return n
}

func (k *checker) settingAt(at, name string, s *fact.SettingAt) {
	if s.Registry != "" {
		k.settingInRegistry(at, s)
		return
	}
	if s.Pattern != "" {
		k.settingPattern(at, name, *s)
		return
	}
	switch {
	case s.File == "" || s.Key == "":
		k.wrong(at, "expected file:, format: and key:, or file: and pattern:, or registry: and key:")
	case !slices.Contains(Formats, s.Format):
		k.wrong(at+".format", "format %q; expected one of %s", s.Format, strings.Join(Formats, ", "))
	case redact.Secretive(s.Key):
		k.wrong(at+".key", "%q names a secret, and those are never read", s.Key)
	}
}

// settingInRegistry wants a key of the registry of Windows, and takes it as the place.
func (k *checker) settingInRegistry(at string, s *fact.SettingAt) {
	place := fact.SettingAt{File: s.Registry}
	switch {
	case s.File != "" || s.Format != "" || s.Pattern != "":
		k.wrong(at, "expected either registry: and key:, or file:")
	case !place.InRegistry():
		k.wrong(at+".registry", "%q; expected a key that begins with HKLM\\ or HKCU\\", s.Registry)
	case s.Key == "":
		k.wrong(at, "expected key: beside registry:, the name of a value")
	case redact.Secretive(s.Key):
		k.wrong(at+".key", "%q names a secret, and those are never read", s.Key)
	}
	s.File = s.Registry
}

// settingPattern wants an expression with a group for the value, of what is no
// secret by its words.
func (k *checker) settingPattern(at, name string, s fact.SettingAt) {
	re, err := regexp.Compile(s.Pattern)
	switch {
	case s.File == "":
		k.wrong(at, "expected file: beside pattern:")
	case s.Format != "" || s.Key != "":
		k.wrong(at, "expected either pattern:, or format: and key:")
	case err != nil:
		k.wrong(at+".pattern", "%q is no regular expression: %v", s.Pattern, err)
	case re.SubexpIndex("value") < 0:
		k.wrong(at+".pattern", `%q has no group for the value; expected one like (?P<value>\S+)`, s.Pattern)
	case redact.Secretive(name), redact.Secretive(literalWords(s.Pattern)):
		k.wrong(at+".pattern", "%q names a secret, and those are never read", s.Pattern)
	}
}

// literalWords is an expression without what is no word of the lines it is for:
// classes, escapes and the names of groups.
func literalWords(pattern string) string {
	return regexp.MustCompile(`\(\?P?<[^>]*>|\\.|\[[^\]]*\]`).ReplaceAllString(pattern, " ")
}

// mayOn is the privileges of SQL that can be asked for, by what they are on.
var mayOn = map[string][]string{
	"database": {"CONNECT", "CREATE", "TEMPORARY"}, "schema": {"USAGE", "CREATE"},
	"table": {"SELECT", "INSERT", "UPDATE", "DELETE", "TRUNCATE", "REFERENCES", "TRIGGER"},
}

func (k *checker) right(at string, r fact.Right) {
	kind, name, named := strings.Cut(r.On, " ")
	switch {
	case r.On == "":
		k.wrong(at, "a right on nothing; expected on: readings.levels, schema readings, database tides, or a path")
	case strings.HasPrefix(r.On, "/"):
		if r.May != "read" {
			k.wrong(at+".may", "%q; expected read, of a path", r.May)
		}
		return
	case !named:
		kind = "table"
	case mayOn[kind] == nil || kind == "table" || strings.TrimSpace(name) == "":
		k.wrong(at+".on", "%q; expected readings.levels, schema readings, database tides, or a path", r.On)
		return
	}
	if !slices.Contains(mayOn[kind], strings.ToUpper(r.May)) {
		k.wrong(at+".may", "%q; expected one of %s", r.May, strings.Join(mayOn[kind], ", "))
	}
}

func (k *checker) sign(at string, s fact.Sign) {
	switch {
	case s.On != "client" && s.On != "server":
		k.wrong(at+".on", "on %q; expected client or server", s.On)
	case s.Of() == "" || s.Of() != s.File && s.Of() != s.Folder && s.Of() != s.Events:
		k.wrong(at, "expected either file: or folder: (or events:, of Windows)")
	case s.Events != "" && s.LastLine != "":
		k.wrong(at+".last-line", "an event log has no last line; expected must: or must-not:")
	case s.Folder == "" && (s.AtLeast > 0 || s.AtMost > 0):
		k.wrong(at, "at-least and at-most count the files of a folder; expected folder: beside them")
	}
	k.duration(at+".fresh", s.Fresh)
	k.duration(at+".within", s.Within)
	if s.Within != "" && s.Must == "" && s.MustNot == "" {
		k.wrong(at+".within", "within what? Expected must: or must-not: beside it")
	}
	k.pattern(at+".must", s.Must)
	k.pattern(at+".must-not", s.MustNot)
}
