package tell

import (
	"fmt"
	"time"

	"uakari/internal/casebook"
	"uakari/internal/fact"
	"uakari/internal/trail"
)

// Sizes of the figures of a page, in their own units.
const (
	figureWide = 860
	plotLeft   = 74
	plotTall   = 180
)

// Mark is one moment of the time line's figure.
type Mark struct {
	X, Row      int
	Kind, Says  string
	Class       string // "bad", "good" or "odd"
	TextY, Text int    // where its words stand, and from where
	Anchor      string
}

// marks lays the moments of a case out from left to right by their time; words
// that would meet stand in rows below each other.
func (r Report) marks() []Mark {
	if len(r.Timeline) < 2 {
		return nil
	}
	const most = 24
	line := r.Timeline[:min(len(r.Timeline), most)]
	first, last := line[0].At, line[len(line)-1].At
	span := max(last.Sub(first), time.Second)
	var list []Mark
	ends := []int{} // where the words of each row end
	for _, m := range line {
		x := 20 + int(float64(figureWide-40)*float64(m.At.Sub(first))/float64(span))
		says := m.Kind
		switch {
		case m.Kind == casebook.Trace && m.Works:
			says = "works"
		case m.Kind == casebook.Trace:
			says = "fails"
		case m.Kind != lastGood:
			says = m.Kind + ": " + m.Text
		}
		says = shortened(says, 28)
		wide := 8*len([]rune(says)) + 12
		from, anchor := x, "start"
		if x+wide > figureWide {
			from, anchor = x, "end"
		}
		row := 0
		start := from
		if anchor == "end" {
			start = from - wide
		}
		for row < len(ends) && ends[row] > start {
			row++
		}
		if row == len(ends) {
			ends = append(ends, 0)
		}
		ends[row] = start + wide
		list = append(
			list,
			Mark{X: x, Row: row, Kind: m.Kind, Says: says, Class: m.class(), TextY: 58 + 20*row, Text: from,
				Anchor: anchor},
		)
	}
	return list
}

// markTall is how tall the figure of the time line is.
func markTall(list []Mark) int {
	rows := 0
	for _, m := range list {
		rows = max(rows, m.Row+1)
	}
	return 52 + 20*rows
}

// class is how a moment is coloured.
func (m ReportMoment) class() string {
	switch {
	case m.Kind == casebook.Change || m.Kind == casebook.Note:
		return "odd"
	case m.Works || m.Kind == "closed" || m.Kind == lastGood:
		return "good"
	}
	return "bad"
}

// lastGood is the run before, in which the endpoint was reached.
const lastGood = "last good run"

func shortened(text string, most int) string {
	r := []rune(text)
	if len(r) <= most {
		return text
	}
	return string(r[:most-1]) + "…"
}

// ReportWidth is what came of asking so many at once.
type ReportWidth struct {
	Width    int     `json:"width"`
	Asked    int     `json:"asked"`
	Failed   int     `json:"failed"`
	MedianMS float64 `json:"median_ms"`
	Late95MS float64 `json:"late95_ms"`
}

// widths is the last trace's requests side by side.
func widths(set *fact.Set) []ReportWidth {
	list := []ReportWidth{}
	for _, f := range set.Facts {
		if l := f.Load; l != nil {
			list = append(list, ReportWidth{l.Width, l.Asked, l.Failed, l.MedianMS, l.Late95MS})
		}
	}
	return list
}

// Dot is one width in the plot of times against width.
type Dot struct {
	X, Half, Late int
	Says          string
	Failed        string // "3 of 64 fail", or ""
}

// Plot is the plot of times against width.
type Plot struct {
	Dots            []Dot
	HalfPath, Path  string
	Limit           int // the height of the limit of clients; 0: none
	LimitSays, Most string
}

// plot lays widths out from left to right, in equal steps, and times upwards.
func (r Report) plot() Plot {
	if len(r.Widths) == 0 {
		return Plot{}
	}
	most := float64(r.LimitMS)
	for _, w := range r.Widths {
		most = max(most, w.Late95MS, w.MedianMS)
	}
	most = max(most, 1)
	height := func(ms float64) int { return 10 + int(float64(plotTall)*(1-ms/most)) }
	var p Plot
	step := (figureWide - plotLeft - 120) / max(1, len(r.Widths)-1)
	for i, w := range r.Widths {
		d := Dot{X: plotLeft + 30 + i*step, Half: height(w.MedianMS), Late: height(w.Late95MS),
			Says: fmt.Sprint(w.Width)}
		if w.Failed > 0 {
			d.Failed = fmt.Sprintf("%d of %d fail", w.Failed, w.Asked)
		}
		p.Dots = append(p.Dots, d)
		join := "L"
		if i == 0 {
			join = "M"
		}
		p.HalfPath += fmt.Sprintf("%s %d %d ", join, d.X, d.Half)
		p.Path += fmt.Sprintf("%s %d %d ", join, d.X, d.Late)
	}
	p.Most = fmt.Sprintf("%.0f ms", most)
	if r.LimitMS > 0 {
		p.Limit, p.LimitSays = height(float64(r.LimitMS)), fmt.Sprintf("clients wait %d ms", r.LimitMS)
	}
	return p
}

// placesSeen is the address of each role, as the client's try went: the client's
// own, and the endpoint's; and how many routers answered between.
func placesSeen(set *fact.Set, client string) (source, target string, hops int) {
	for _, f := range set.Facts {
		switch {
		case f.Vantage != client:
		case f.Route != nil && f.Route.Source.IsValid() && source == "":
			source = f.Route.Source.String()
		case f.Connect != nil && target == "":
			target = f.Order.Target.Addr.String()
		case f.Hops != nil:
			hops = max(hops, f.Hops.Last())
		}
	}
	return source, target, hops
}

// clientID is the vantage of a trail's client.
func clientID(t trail.Trail) string {
	for _, v := range t.Vantages {
		if v.Role == fact.Client {
			return v.ID
		}
	}
	return ""
}
