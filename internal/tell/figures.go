package tell

import (
	"fmt"
	"strings"
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
	X, Row     int // Row is the last one of its words
	Kind, Says string
	Class      string // "bad", "good" or "odd"
	Text       int    // from where its words stand
	Anchor     string
	Lines      []MarkLine
}

// MarkLine is one line of a moment's words.
type MarkLine struct {
	Text string
	Y    int
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
		words := wrapped(says, markColumns, markLines)
		longest := 0
		for _, text := range words {
			longest = max(longest, len([]rune(text)))
		}
		wide := 8*longest + 12
		from, anchor := x, "start"
		if x+wide > figureWide {
			from, anchor = x, "end"
		}
		start := from
		if anchor == "end" {
			start = from - wide
		}
		row := 0
		for at := 0; at < len(words); at++ { // rows that are free for all of its lines
			if row+at < len(ends) && ends[row+at] > start {
				row, at = row+at+1, -1
			}
		}
		for len(ends) < row+len(words) {
			ends = append(ends, 0)
		}
		mark := Mark{X: x, Row: row + len(words) - 1, Kind: m.Kind, Says: says, Class: m.class(), Text: from,
			Anchor: anchor}
		for i, text := range words {
			ends[row+i] = start + wide
			mark.Lines = append(mark.Lines, MarkLine{text, 58 + markRow*(row+i)})
		}
		list = append(list, mark)
	}
	return list
}

// What the words of a moment may take: columns, lines, and how far lines are apart.
const (
	markColumns = 28
	markLines   = 4
	markRow     = 20
)

// wrapped is a text in lines of some columns; what has no room in the last one is left out.
func wrapped(text string, columns, most int) []string {
	var lines []string
	line := ""
	for _, word := range strings.Fields(text) {
		switch {
		case line == "":
			line = word
		case len([]rune(line))+1+len([]rune(word)) <= columns:
			line += " " + word
		default:
			lines, line = append(lines, line), word
		}
	}
	if lines = append(lines, line); len(lines) > most {
		lines = append(lines[:most-1], lines[most-1]+" …")
	}
	for i := range lines {
		lines[i] = shortened(lines[i], columns+2)
	}
	return lines
}

// markTall is how tall the figure of the time line is.
func markTall(list []Mark) int {
	rows := 0
	for _, m := range list {
		rows = max(rows, m.Row+1)
	}
	return 52 + markRow*rows
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
