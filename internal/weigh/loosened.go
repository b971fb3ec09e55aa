package weigh

import (
	"fmt"
	"slices"
	"strings"
	"unicode"

	"uakari/internal/fact"
)

// checksNames is words in the names of settings that say whether something is checked.
var checksNames = []string{
	"verify", "verification", "validate", "validation", "checking", "enforce", "enforcing", "authentication",
	"authorization",
}

// waivesNames is words in the names of settings that waive a check.
var waivesNames = []string{"insecure", "skip", "anonymous", "permissive"}

// Values by which a switch is off and on.
var (
	offValues = []string{"off", "no", "false", "none", "0", "never", "disable", "disabled", "permissive", "optional"}
	onValues  = []string{"on", "yes", "true", "1", "always", "enable", "enabled"}
)

// loosened reports whether a setting checks less by its new value than by the old.
func loosened(key, was, now string) bool {
	words := strings.FieldsFunc(strings.ToLower(key), func(r rune) bool { return !unicode.IsLetter(r) })
	names := func(list []string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return slices.Contains(list, w) })
	}
	was, now = strings.ToLower(was), strings.ToLower(now)
	switch {
	case names(waivesNames):
		return slices.Contains(onValues, now) && !slices.Contains(onValues, was)
	case names(checksNames):
		return slices.Contains(offValues, now) && !slices.Contains(offValues, was)
	}
	return false
}

// settingsLoosened is the settings of hosts that check less now than then: of the
// programs that serve, of a card, and whether the host enforces its policy.
func settingsLoosened(before, now fact.Set) []string {
	was, _ := settingsOf(before)
	is, order := settingsOf(now)
	var list []string
	for _, place := range order {
		old, seen := was[place]
		key := place[strings.LastIndex(place, ": ")+2:]
		if seen && old != is[place] && loosened(key, old, is[place]) {
			list = append(list, fmt.Sprintf("%s = %s, was %s: %s", place, is[place], old, ChecksLess))
		}
	}
	return list
}

// ChecksLess is how a check that was loosened is told.
const ChecksLess = "it checks less"

// settingsOf is settings by host, file and key, with the order of these. Of a key
// that stands several times the first counts.
func settingsOf(set fact.Set) (values map[string]string, order []string) {
	values = map[string]string{}
	hosts := map[string]string{}
	for _, v := range set.Vantages {
		hosts[v.ID] = v.Host
	}
	for _, f := range set.Facts {
		note := func(place, value string) {
			place = hosts[f.Vantage] + ": " + place
			if _, known := values[place]; !known {
				values[place], order = value, append(order, place)
			}
		}
		switch {
		case f.Service != nil:
			for _, p := range f.Service.Programs {
				for _, s := range p.Files {
					for _, setting := range s.Says {
						key, value, _ := strings.Cut(setting, " = ")
						note(s.Path+": "+key, value)
					}
				}
			}
		case f.Settings != nil:
			for _, s := range f.Settings.List {
				note(s.At.File+": "+s.At.Key, s.Value)
			}
		case f.Kernel != nil:
			if value, ok := f.Kernel.Settings[fact.PolicyEnforced]; ok {
				note(fact.PolicyEnforced, value)
			}
		}
	}
	return values, order
}
