package wire

import (
	"fmt"
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

// postgresRights is how PostgreSQL is asked (its manual, "Access Privilege
// Inquiry Functions").
func postgresRights(r fact.Right) []level {
	may := sqlText(strings.ToUpper(r.May))
	switch kind, name, apart := strings.Cut(r.On, " "); {
	case apart && kind == "database":
		return []level{{r.On, "SELECT has_database_privilege(" + sqlText(strings.TrimSpace(name)) + ", " + may + ")"}}
	case apart:
		return []level{
			{
				r.On,
				"SELECT has_schema_privilege(" + sqlText(strings.ToLower(strings.TrimSpace(name))) + ", " + may + ")",
			},
		}
	}
	schema, table, ok := strings.Cut(r.On, ".")
	if !ok {
		return []level{{"table " + r.On, "SELECT has_table_privilege(" + sqlText(sqlName(r.On)) + ", " + may + ")"}}
	}
	return []level{
		{"schema " + schema, "SELECT has_schema_privilege(" + sqlText(strings.ToLower(schema)) + ", 'USAGE')"},
		{
			"table " + r.On,
			"SELECT has_table_privilege(" + sqlText(sqlName(schema)+"."+sqlName(table)) + ", " + may + ")",
		},
	}
}

// mysqlRights is how MariaDB and MySQL are asked: what they show an account of
// its own privileges, on everything, on a database, or on a table.
func mysqlRights(r fact.Right) []level {
	may := sqlText(strings.ToUpper(r.May))
	kind, name, apart := strings.Cut(r.On, " ")
	database, table := strings.TrimSpace(name), ""
	if !apart {
		database, table, _ = strings.Cut(r.On, ".")
		if table == "" {
			database, table = "", database
		}
	}
	where := "DATABASE()"
	if database != "" {
		where = sqlText(database)
	}
	question := fmt.Sprintf(
		"SELECT (EXISTS (SELECT 1 FROM information_schema.user_privileges WHERE privilege_type = %[1]s)"+
			" OR EXISTS (SELECT 1 FROM information_schema.schema_privileges WHERE %[2]s LIKE table_schema AND "+
			"privilege_type = %[1]s)",
		may,
		where,
	)
	if apart {
		return []level{{kind + " " + database, question + ")"}}
	}
	return []level{
		{
			"table " + r.On,
			question + fmt.Sprintf(
				" OR EXISTS (SELECT 1 FROM information_schema.table_privileges WHERE table_schema = %s AND "+
					"table_name = %s AND privilege_type = %s))",
				where,
				sqlText(table),
				may,
			),
		},
	}
}
