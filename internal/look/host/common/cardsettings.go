package common

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/keep"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/settingsfile"
	"uakari/internal/written"
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
		places := []*fact.SettingAt{rule.Client}
		if s.Side == "server" {
			places = []*fact.SettingAt{rule.Server}
		} else {
			for j := range rule.Copies {
				places = append(places, &rule.Copies[j])
			}
		}
		for j, at := range places {
			if at != nil {
				seen := readSetting(*at)
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
			parts = append(parts, seen.At.Key+": "+seen.Missing)
		case seen.Unread != "":
			parts = append(parts, seen.At.Key+": "+seen.Unread)
		default:
			parts = append(parts, fmt.Sprintf("%s is %q", seen.At.Key, seen.Value))
		}
	}
	if len(parts) == 0 {
		return "none named"
	}
	return strings.Join(parts, ", ")
}

// readSetting reads one setting. The last of several counts.
func readSetting(at fact.SettingAt) fact.SettingSeen {
	seen := fact.SettingSeen{At: at}
	text, err := readSettingFile(at.File)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		seen.Missing = "there is no file " + at.File
		return seen
	case err != nil:
		seen.Unread = err.Error()
		return seen
	}
	all, err := settingsfile.Read(text, at.Format)
	if err != nil {
		seen.Unread = fmt.Sprintf("%s cannot be read as %s: %v", at.File, at.Format, err)
		return seen
	}
	seen.Missing = "no such key in " + at.File
	nearest := max(2, len(at.Key)/4) + 1
	wanted := placed(at.Key)
	for _, f := range all {
		if !f.Off && (f.Key == wanted || at.Format == "ssh" && strings.EqualFold(f.Key, wanted)) {
			seen.Missing, seen.Value, seen.Line = "", f.Text, f.Line
			continue
		}
		clean, _ := endpoint.Clean(f.Key)
		distance := written.Distance(strings.ToLower(clean), strings.ToLower(at.Key))
		if distance < nearest && !keep.Secretive(f.Key) {
			nearest, seen.NearLine = distance, f.Line
			seen.Near = fmt.Sprintf("%s = %s", f.Key, keep.Value(f.Key, f.Text))
			if f.Off {
				seen.Near = "commented out: " + seen.Near
			}
		}
	}
	switch {
	case seen.Missing == "" && strings.TrimSpace(seen.Value) == "":
		seen.Missing = fmt.Sprintf("it is empty (%s, line %d)", at.File, seen.Line)
	case seen.Missing == "":
		seen.Near, seen.NearLine = "", 0
		if clean, stray := endpoint.Clean(seen.Value); len(stray) > 0 {
			seen.Clean, seen.Stray = clean, stray
		}
	}
	if kept := keep.Value(at.Key, seen.Value); kept != seen.Value {
		seen.Mark, seen.Value, seen.Clean = keep.Mark(seen.Value), kept, keep.Value(at.Key, seen.Clean)
	}
	return seen
}

// placed is a key with its places in lists written as settings are read here:
// "servers[0].host" is "servers.0.host".
func placed(key string) string {
	return strings.NewReplacer("[", ".", "]", "").Replace(key)
}

func readSettingFile(path string) (string, error) {
	text, err := file.Read(atHome(path), MostSettingFile)
	return string(text), err
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
