package wire

import (
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// level is one question about a right, from the outermost on: a table is
// reached through its schema.
type level struct {
	name     string // "schema readings"
	question string // its one field is whether the right is there
}

// lackingRights asks, in a session that is open, for each right, level by
// level, and names the first that is missing. The questions read the catalogue
// of the database and nothing else.
func lackingRights(
	rights []fact.Right,
	levels func(fact.Right) []level,
	ask func(string) ([][]string, error),
) []fact.LackingRight {
	var list []fact.LackingRight
	for _, r := range rights {
		if strings.HasPrefix(r.On, "/") {
			continue // a path is the host's matter
		}
		for _, l := range levels(r) {
			rows, err := ask(l.question)
			lack := fact.LackingRight{Right: r, Level: l.name}
			switch {
			case err != nil && (strings.Contains(err.Error(), "(3F000)") || strings.Contains(err.Error(), "(42P01)") ||
				strings.Contains(err.Error(), "(3D000)")):
				lack.Absent = true
			case err != nil:
				lack.Unknown = foreign.Clean(err.Error())
			case len(rows) == 0 || len(rows[0]) == 0:
				lack.Unknown = "an answer of another shape"
			case rows[0][0] == "t" || rows[0][0] == "1":
				continue
			}
			list = append(list, lack)
			break
		}
	}
	return list
}

// sqlText is a string of SQL.
func sqlText(text string) string { return "'" + strings.ReplaceAll(text, "'", "''") + "'" }

// sqlName is a name of PostgreSQL as it stands in the catalogue, which folds
// what is not quoted.
func sqlName(text string) string {
	return `"` + strings.ReplaceAll(strings.ToLower(text), `"`, `""`) + `"`
}
