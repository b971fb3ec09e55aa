package rules

import (
	"strings"

	"uakari/internal/fact"
)

const (
	gauge    = "10.20.7.31"
	tidebook = "10.20.0.14"
)

func linesOf(text string) []fact.Line {
	var lines []fact.Line
	for i, l := range strings.Split(text, "\n") {
		lines = append(lines, fact.Line{Number: i + 1, Text: l})
	}
	return lines
}
