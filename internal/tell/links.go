package tell

import (
	"fmt"
	"slices"
	"strings"
	"unicode/utf8"

	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// linkRows is what was seen on the links as rows of a table: the kind of packet, and
// what each host saw of it. The first row names the hosts.
func linkRows(list []trail.Sighting) [][]string {
	if len(list) == 0 {
		return nil
	}
	head := []string{""}
	for _, s := range list[0].Seen {
		head = append(head, foreign.Printable(s.Host))
	}
	rows := [][]string{head}
	for _, s := range list {
		row := []string{foreign.Printable(s.Packet)}
		for _, seen := range s.Seen {
			how := "not seen"
			if seen.Times > 0 {
				how = foreign.Printable(strings.Join(seen.How, ", "))
			}
			row = append(row, how)
		}
		rows = append(rows, row)
	}
	return rows
}

// links tells what each host saw of the client's tries, from left to right as they
// pass: where a column first says "not seen" is where they end.
func (w *writer) links() {
	rows := linkRows(w.t.Links)
	if rows == nil {
		return
	}
	w.b.WriteString("\n" + w.p.as(bold, "On the links, while it was tried:") + "\n")
	const most = 26
	wide := make([]int, len(rows[0]))
	for _, row := range rows {
		for i, cell := range row {
			row[i] = shortened(cell, most)
			wide[i] = max(wide[i], utf8.RuneCountInString(row[i]))
		}
	}
	for _, row := range rows {
		line := " "
		for i, cell := range row {
			line += fmt.Sprintf(" %-*s ", wide[i], cell)
		}
		line = strings.TrimRight(line, " ")
		if slices.Contains(row, "not seen") {
			line = strings.ReplaceAll(line, "not seen", w.p.as(red, "not seen"))
		}
		w.b.WriteString(line + "\n")
	}
}
