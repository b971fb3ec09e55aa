package tell

import (
	"embed"
	"fmt"
	"html/template"
	"strings"
	"sync"

	"uakari/internal/foreign"
)

//go:embed page.html watch.html head.html style.css
var pageFile embed.FS

// page is the report's page; everything that fills it is escaped for its place.
var page = sync.OnceValue(func() *template.Template {
	return template.Must(
		template.New("page.html").
			Funcs(template.FuncMap{"safe": foreign.Printable, "stateClass": stateClass}).
			ParseFS(pageFile, "page.html", "watch.html", "head.html", "style.css"),
	)
})

func stateClass(s any) string {
	switch fmt.Sprint(s) {
	case "fault":
		return "bad"
	case "clear":
		return "good"
	case "doubt":
		return "odd"
	}
	return "dim"
}

// Bar is one bar of the plot of times, in the units of its drawing.
type Bar struct {
	Step, Says  string
	Y, TextY, W int
}

// bars lays the times out below each other, the longest as wide as the plot.
func (r Report) bars() []Bar {
	longest := 0.0
	for _, t := range r.Times {
		longest = max(longest, t.MS)
	}
	var list []Bar
	for i, t := range r.Times {
		width := 2
		if longest > 0 {
			width = max(2, int(420*t.MS/longest))
		}
		list = append(list, Bar{t.Step, fmt.Sprintf("%.1f ms", t.MS), 6 + 28*i, 22 + 28*i, width})
	}
	return list
}

// drawn is a host in the drawing of the way.
type drawn struct {
	ReportPlace
	Label        string // the host, as much of it as has room
	X, Mid, Next int
	Last, Broken bool
	Between      string // on the arrow to the next: how many routers answered there
	NextMid      int
}

// drawing places the hosts from left to right.
func (r Report) drawing() []drawn {
	const box, gap, most = 190, 70, 22
	var list []drawn
	for i, p := range r.Path {
		x := 10 + i*(box+gap)
		label := []rune(p.Host)
		if len(label) > most {
			label = append(label[:most-1], '…')
		}
		d := drawn{
			ReportPlace: p,
			Label:       string(label),
			X:           x,
			Mid:         x + box/2,
			Next:        x + box,
			Last:        i == len(r.Path)-1,
			Broken:      p.Breaks != "",
			NextMid:     x + box + gap/2,
		}
		if !d.Last && r.Path[i+1].Hops > 1 {
			d.Between = counted(r.Path[i+1].Hops-1, "hop")
		}
		list = append(list, d)
	}
	return list
}

// HTML is a report as one page that needs nothing else: no script, no outside
// resource.
func (r Report) HTML() (string, error) {
	var b strings.Builder
	marks := r.marks()
	err := page().Execute(&b, map[string]any{"Marks": marks, "MarkTall": markTall(marks), "Plot": r.plot(),
		"Wide": figureWide, "R": r, "Heading": r.heading(), "Bars": r.bars(), "PlotH": 12 + 28*len(r.Times),
		"Way": r.drawing(), "WayW": 20 + 260*len(r.Path) - 70,
		"Sections": r.sections(), "Made": r.Made.Format(moments)})
	return b.String(), err
}
