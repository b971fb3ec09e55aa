package tell

import (
	"fmt"
	"strings"

	"uakari/internal/fact"
)

// Mapped tells what is registered at a port mapper.
func Mapped(place string, m fact.Mapper) string {
	var b strings.Builder
	if len(m.Entries) == 0 {
		fmt.Fprintf(&b, "Nothing is registered at %s.\n", safe(place))
		return b.String()
	}
	fmt.Fprintf(&b, "Registered at %s:\n  %-16s %-8s %-4s %s\n", safe(place), "service", "version", "over", "port")
	for _, e := range m.Entries {
		name := e.Name
		if name == "" {
			name = fmt.Sprint(e.Program)
		}
		fmt.Fprintf(&b, "  %-16s %-8d %-4s %d\n", safe(name), e.Version, safe(e.Transport), e.Port)
	}
	return b.String()
}
