package tell

import (
	"testing"
	"time"

	"uakari/internal/casebook"
)

// TestSimilar tells what was done, and not what was taken back.
func TestSimilar(t *testing.T) {
	opened := time.Date(2031, 3, 4, 8, 0, 0, 0, time.UTC)
	c := casebook.Case{ID: 7, Title: "gauge-07 cannot reach tidebook", First: "rules/server-drop", Opened: opened}
	other := c
	other.ID, other.Closed = 3, opened.Add(time.Hour)
	other.Entries = []casebook.Entry{
		{Kind: casebook.Change, Text: "let everybody in", Temporary: true, Undone: opened.Add(time.Minute)},
		{Kind: casebook.Note, Text: "since this morning"},
		{Kind: casebook.Change, Text: "let the stations in\x1b[31m"},
	}
	for _, x := range []struct {
		c    casebook.Case
		list []casebook.Case
		want string
	}{
		{c, nil, "No other case had rules/server-drop.\n"},
		{casebook.Case{ID: 8, First: "unsure"}, nil, "Case 8 has no cause that others may share: it is unsure.\n"},
		{c, []casebook.Case{other}, `1 other case with rules/server-drop.

case          opened (UTC)      what
   3  closed  2031-03-04 08:00  gauge-07 cannot reach tidebook:
                                rules/server-drop
                                done: let the stations in<U+001B>[31m
`},
	} {
		if got := Similar(x.c, x.list, false); got != x.want {
			t.Errorf("%s\nwant\n%s", got, x.want)
		}
	}
}
