package casebook

import (
	"context"
	"database/sql"
	"regexp"
	"time"
)

// mostOfEndpoint is how many waits of an endpoint are looked at.
const mostOfEndpoint = 20

// Waited is the note of a case that says how long somebody waited until it worked.
func Waited(took time.Duration, at time.Time) Entry {
	return Entry{At: at, Kind: Note, Text: "it worked after " + took.Round(time.Second).String() + " of waiting"}
}

var waited = regexp.MustCompile(`^it worked after (\S+) of waiting$`)

// Waits is how long it took until an endpoint worked, by the notes of its cases.
func (b *Book) Waits(ctx context.Context, endpoint string) ([]time.Duration, error) {
	var list []time.Duration
	err := b.within(ctx, func(tx *sql.Tx) error {
		rows, err := tx.QueryContext(ctx, "SELECT entries.text FROM entries JOIN cases ON cases.id = entries.case_id "+
			"WHERE cases.endpoint = $1 AND entries.kind = $2 AND entries.text LIKE 'it worked after %' "+
			"ORDER BY entries.number DESC LIMIT $3", endpoint, Note, mostOfEndpoint)
		if err != nil {
			return err
		}
		defer rows.Close()
		for rows.Next() {
			var text string
			if err := rows.Scan(&text); err != nil {
				return err
			}
			m := waited.FindStringSubmatch(text)
			if m == nil {
				continue // somebody's own words
			}
			if took, err := time.ParseDuration(m[1]); err == nil {
				list = append(list, took)
			}
		}
		return rows.Err()
	})
	return list, err
}
