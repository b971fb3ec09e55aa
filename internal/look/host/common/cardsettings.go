package common

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"

	"uakari/internal/foreign"

	"uakari/internal/card"
	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/redact"
	"uakari/internal/settingsfile"
	"uakari/internal/yamlfile"
)

// MostSettingFile bounds a settings file that a card names, in bytes.
const MostSettingFile = 4 << 20

// MostSettings bounds what is read of any other settings file, in bytes.
const MostSettings = 1 << 20

// ReadSome reads a file, up to that bound.
func ReadSome(path string) ([]byte, error) {
	return file.Head(path, MostSettings)
}

// Settings leaves the settings that the card names, as this side of the
// connection has them, and whether the client program is there.
func Settings(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	s := fact.Settings{Side: order.Target.Name, List: []fact.SettingSeen{}}
	if env.Card == nil {
		emit(env.Failed(order, "card", "could not look at settings", errors.New("there is no card"), "--card FILE"))
		return
	}
	if s.Side == "client" && env.Card.ClientProgram != "" {
		s.Program = env.Card.ClientProgram
		if path, err := exec.LookPath(s.Program); err == nil {
			s.ProgramPath = path
		}
	}
	for i, rule := range env.Card.Settings {
		for j, at := range rule.PlacesOn(s.Side) {
			if at != nil {
				seen := readSetting(rule, *at)
				seen.Rule, seen.Copy = i, j
				s.List = append(s.List, seen)
			}
		}
	}
	f := env.Seen(order, "settings on the "+s.Side, sawSettings(s))
	f.Settings = &s
	emit(f)
}

func sawSettings(s fact.Settings) string {
	var parts []string
	for _, seen := range s.List {
		switch {
		case seen.Missing != "":
			parts = append(parts, seen.At.Named()+": "+seen.Missing)
		case seen.Unread != "":
			parts = append(parts, seen.At.Named()+": "+seen.Unread)
		default:
			parts = append(parts, fmt.Sprintf("%s is %q", seen.At.Named(), seen.Value))
		}
	}
	if len(parts) == 0 {
		return "none named"
	}
	return strings.Join(parts, ", ")
}

// RegistryValue reads a value of the registry of Windows; nil on other systems.
var RegistryValue func(key, name string) (text string, found bool, err error)

// readRegistry reads one setting of the registry.
func readRegistry(seen *fact.SettingSeen) {
	at := seen.At
	if RegistryValue == nil {
		seen.Unread = "only Windows has a registry"
		return
	}
	text, found, err := RegistryValue(at.File, at.Key)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		seen.Missing = "there is no key " + at.File
	case err != nil:
		seen.Unread = err.Error()
	case !found:
		seen.Missing = "no such value in " + at.File
	default:
		seen.Value = text
	}
}

// readSetting reads one setting. The last of several counts.
func readSetting(rule fact.SettingRule, at fact.SettingAt) fact.SettingSeen {
	seen := fact.SettingSeen{At: at}
	if at.InRegistry() {
		readRegistry(&seen)
		return finishSetting(rule, seen)
	}
	text, err := readSettingFile(at.File)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		seen.Missing = "there is no file " + at.File
		return seen
	case err != nil:
		seen.Unread = err.Error()
		return seen
	}
	if info, err := os.Stat(atHome(at.File)); err == nil {
		seen.Changed = info.ModTime().UTC()
	}
	if at.Pattern != "" {
		seen.Missing = fmt.Sprintf("no line of %s matches %q", at.File, at.Pattern)
		matchLines(&seen, text)
	} else if err := findKey(&seen, text); err != nil {
		seen.Unread = fmt.Sprintf("%s cannot be read as %s: %v", at.File, at.Format, err)
		return seen
	}
	return finishSetting(rule, seen)
}

// finishSetting says what else a value shows, and leaves out what may be a secret.
func finishSetting(rule fact.SettingRule, seen fact.SettingSeen) fact.SettingSeen {
	at, name := seen.At, cmp.Or(seen.At.Key, rule.Name)
	switch {
	case seen.Missing != "" || seen.Unread != "":
	case strings.TrimSpace(seen.Value) == "":
		seen.Missing = fmt.Sprintf("it is empty (%s)", at.Place(seen.Line))
	default:
		seen.Near, seen.NearLine = "", 0
		if clean, stray := endpoint.Clean(seen.Value); len(stray) > 0 && !rule.Set && seen.Value != rule.Value {
			seen.Clean, seen.Stray = clean, stray
		}
	}
	if kept := redact.Value(name, seen.Value); kept != seen.Value {
		seen.Mark, seen.Value, seen.Clean = redact.Mark(card.Canonical(rule, seen.Value)), kept,
			redact.Value(name, seen.Clean)
	}
	return seen
}

// matchLines finds the last line that the pattern of a place matches.
func matchLines(seen *fact.SettingSeen, text string) {
	re, err := regexp.Compile(seen.At.Pattern)
	if err != nil {
		return // the card was checked
	}
	number := 0
	for line := range strings.Lines(text) {
		number++
		if m := re.FindStringSubmatch(strings.TrimRight(line, "\r\n")); m != nil {
			seen.Missing, seen.Value, seen.Line = "", m[re.SubexpIndex("value")], number
			continue
		}
		bare := strings.TrimLeft(strings.TrimSpace(line), "#;/- \t")
		if off := strings.TrimSpace(line); bare != off && re.MatchString(bare) {
			seen.Near, seen.NearLine = foreign.CleanTo(redact.LogLine(off), mostNear), number
		}
	}
}

// mostNear bounds a line that is quoted, in characters.
const mostNear = 120

// findKey finds the last value of a place's key, or else a line that looks as
// if it were meant.
func findKey(seen *fact.SettingSeen, text string) error {
	at := seen.At
	all, err := settingsfile.Read(text, at.Format)
	if err != nil {
		return err
	}
	seen.Missing = "no such key in " + at.File
	nearest := max(2, len(at.Key)/4) + 1
	wanted := placed(at.Key)
	for _, f := range all {
		if !f.Off && (f.Key == wanted || settingsfile.AnyCase[at.Format] && strings.EqualFold(f.Key, wanted)) {
			seen.Missing, seen.Value, seen.Line = "", f.Text, f.Line
			continue
		}
		clean, _ := endpoint.Clean(f.Key)
		distance := yamlfile.Distance(strings.ToLower(clean), strings.ToLower(at.Key))
		if distance < nearest && !redact.Secretive(f.Key) {
			nearest, seen.NearLine = distance, f.Line
			seen.Near = fmt.Sprintf("%s = %s", f.Key, redact.Value(f.Key, f.Text))
			if f.Off {
				seen.Near = "commented out: " + seen.Near
			}
		}
	}
	return nil
}

// placed is a key with its places in lists written as settings are read here:
// "servers[0].host" is "servers.0.host".
func placed(key string) string {
	return strings.NewReplacer("[", ".", "]", "").Replace(key)
}

func readSettingFile(path string) (string, error) {
	text, err := file.Read(atHome(path), MostSettingFile)
	return settingsfile.Decode(text), err
}

// atHome puts the user's home in place of "~/".
func atHome(path string) string {
	if rest, ok := strings.CutPrefix(path, "~/"); ok {
		if home, err := os.UserHomeDir(); err == nil {
			return filepath.Join(home, rest)
		}
	}
	return path
}
