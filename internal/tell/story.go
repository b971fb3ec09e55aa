package tell

import (
	"strings"

	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// Heading begins a chapter of a story.
func Heading(head, story string, colour bool) string {
	p := paint{colour}
	var b strings.Builder
	b.WriteString(p.as(bold, head) + "\n")
	b.WriteString(p.as(grey, strings.Repeat("─", len([]rune(head)))) + "\n")
	block(&b, "", "", story, width)
	b.WriteByte('\n')
	return b.String()
}

// Prompt is a command as it is typed.
func Prompt(command string, colour bool) string {
	return paint{colour}.as(blue, "$ "+foreign.Printable(command)) + "\n"
}

// Aside tells what happens between two commands.
func Aside(text string, colour bool) string {
	var b strings.Builder
	b.WriteByte('\n')
	block(&b, "", "", text, width)
	return b.String()
}

// Answer is the first line of a trail's text alone.
func Answer(t trail.Trail, colour bool) string {
	w := writer{t: t, p: paint{colour}}
	w.answer()
	return w.b.String()
}
