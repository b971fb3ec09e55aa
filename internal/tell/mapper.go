package tell

import (
	"fmt"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// Mapped tells what is registered at a port mapper.
func Mapped(place string, m fact.Mapper) string {
	var b strings.Builder
	if len(m.Entries) == 0 {
		fmt.Fprintf(&b, "Nothing is registered at %s.\n", foreign.Printable(place))
		return b.String()
	}
	widest := 16
	for _, e := range m.Entries {
		widest = max(widest, len(foreign.Printable(e.Name)))
	}
	fmt.Fprintf(
		&b,
		"Registered at %s:\n  %-*s %-8s %-4s %s\n",
		foreign.Printable(place),
		widest,
		"service",
		"version",
		"over",
		"port",
	)
	for _, e := range m.Entries {
		fmt.Fprintf(
			&b,
			"  %-*s %-8d %-4s %d\n",
			widest,
			foreign.Printable(e.Name),
			e.Version,
			foreign.Printable(e.Transport),
			e.Port,
		)
	}
	return b.String()
}
