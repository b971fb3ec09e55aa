package tell

import (
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"uakari/internal/foreign"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// watchDot is one try in the time line of a watch, in the units of its drawing.
type watchDot struct {
	X, Y   int
	Failed bool
}

// watchEvent is a moment at which something changed, or the outcome did.
type watchEvent struct {
	Number, X int
	At, Says  string
}

// watchAddress is the tries of one address.
type watchAddress struct {
	Addr          string
	Tries, Failed int
	Half, Late    string
}

// WatchPage is a watch as a page: each try with its time, failures and changes
// marked, and the addresses. Made is when it was written.
func WatchPage(goal string, t weigh.Tally, made time.Time) (string, error) {
	const top, bottom, left, right = 40, 190, plotLeft, 850
	most := 1.0
	for _, try := range t.History {
		most = max(most, try.MS)
	}
	var first, last time.Time
	if len(t.History) > 0 {
		first, last = t.History[0].At, t.History[len(t.History)-1].At
	}
	span := max(last.Sub(first), time.Second)
	dots, events := []watchDot{}, []watchEvent{}
	for i, try := range t.History {
		x := left + 8 + int(float64(right-left-16)*float64(try.At.Sub(first))/float64(span))
		dots = append(dots, watchDot{X: x, Y: bottom - int(float64(bottom-top)*try.MS/most), Failed: !try.Works})
		turned := i > 0 && try.Works != t.History[i-1].Works
		if len(try.Changes) == 0 && !turned {
			continue
		}
		says := "it works again"
		if !try.Works {
			says = "it fails: " + try.Why
		}
		if !turned {
			says = ""
		}
		says = strings.TrimPrefix(says+"; "+strings.Join(try.Changes, "; "), "; ")
		events = append(events, watchEvent{
			Number: len(events) + 1, X: x, At: try.At.UTC().Format(time.TimeOnly),
			Says: strings.TrimSuffix(says, "; "),
		})
	}
	var addresses []watchAddress
	for _, addr := range slices.Sorted(maps.Keys(t.ByAddr)) {
		a := t.ByAddr[addr]
		row := watchAddress{Addr: addr, Tries: a.Tries, Failed: a.Failed, Half: "-", Late: "-"}
		if a.Tries > a.Failed {
			row.Half, row.Late = fmt.Sprintf("%.1f ms", a.Within(0.5)), fmt.Sprintf("%.1f ms", a.Within(0.95))
		}
		addresses = append(addresses, row)
	}
	heading := fmt.Sprintf("%s: %s, %d failed", foreign.Printable(goal), counted(t.Tries, "try"), t.Failed)
	if t.Worst > 1 {
		heading += fmt.Sprintf(", at most %d in a row", t.Worst)
	}
	var b strings.Builder
	err := page().ExecuteTemplate(&b, "watch.html", map[string]any{
		"Heading": heading, "Works": t.Last.Outcome == trail.OutcomeClear, "Wide": figureWide, "Failed": t.Failed,
		"From": t.First.At.UTC().Format(moments), "To": t.Last.At.UTC().Format(moments),
		"FromTime": first.UTC().Format(time.TimeOnly), "ToTime": last.UTC().Format(time.TimeOnly),
		"Most": fmt.Sprintf("%.0f ms", most), "Dots": dots, "Events": events, "Addresses": addresses,
		"Made": made.UTC().Format(moments),
	})
	return b.String(), err
}
