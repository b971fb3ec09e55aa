package tell

import (
	"slices"

	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// way tells which settings of the client's own library decide, each with the place where it
// stands and those that it overrides, where the settings are asked for and not the answer.
func (w *writer) way() {
	asked := func(rung trail.Rung) bool {
		return slices.ContainsFunc(w.t.Rungs, func(f trail.Finding) bool {
			return f.Name == rung && f.Summary != trail.NotAsked
		})
	}
	if w.t.Way == nil || !asked(trail.Settings) || asked(trail.Answer) {
		return
	}
	w.b.WriteByte('\n')
	w.heading("Settings", " of "+w.t.Way.By+", for this account on this host:")
	for _, s := range w.t.Way.Settings {
		value := s.Value
		if value == "" {
			value = "set"
		}
		block(&w.b, "  "+foreign.Printable(s.Name)+"  ", "      ", foreign.Printable(value), width)
		block(&w.b, "      from ", "        ", foreign.Printable(s.At), width)
		for _, place := range s.Over {
			block(&w.b, "      overrides ", "        ", foreign.Printable(place), width)
		}
	}
}
