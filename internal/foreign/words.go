package foreign

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"
)

// Since tells how long something has been so.
func Since(now, from time.Time) string {
	if from.IsZero() || now.Before(from) {
		return ""
	}
	return "for " + Span(now.Sub(from))
}

// Up is how long something has been running, behind a comma; "" if its start is not known.
func Up(now, from time.Time) string {
	if from.IsZero() || now.Before(from) {
		return ""
	}
	return ", up " + Span(now.Sub(from))
}

// Span writes a duration in its largest whole unit.
func Span(d time.Duration) string {
	for _, u := range []struct {
		d    time.Duration
		name string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}, {time.Minute, "minute"}, {time.Second, "second"}} {
		if n := int(d / u.d); n > 0 {
			if n == 1 {
				return "1 " + u.name
			}
			return fmt.Sprintf("%d %ss", n, u.name)
		}
	}
	return "less than 1 second"
}

func PluralIs(which string, n int) string {
	if n == 1 {
		return which + " is"
	}
	return which + " are"
}

func NonZero(n int) string {
	if n == 0 {
		return ""
	}
	return fmt.Sprint(n)
}

func Connections(n uint32) string {
	if n == 1 {
		return "1 connection"
	}
	return fmt.Sprintf("%d connections", n)
}

// At writes a resolver without the port that every resolver has.
func At(ap netip.AddrPort) string {
	if ap.Port() == 53 {
		return ap.Addr().String()
	}
	return ap.String()
}

func Shortened(line string) string {
	const most = 160
	if len(line) > most {
		return strings.ToValidUTF8(line[:most], "") + "…"
	}
	return line
}

func Plural(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, strings.TrimSuffix(word, "s"))
}

func Numbers(list []int) string {
	list = slices.Compact(slices.Sorted(slices.Values(list)))
	return strings.Trim(strings.Join(strings.Fields(fmt.Sprint(list)), ", "), "[]")
}

// Took is a short time in few figures: "12 ms", "1.5 s".
func Took(d time.Duration) string {
	if d < time.Second {
		return fmt.Sprintf("%d ms", d.Milliseconds())
	}
	return fmt.Sprintf("%.3g s", d.Seconds())
}
