package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"

	"uakari/internal/foreign"
)

// LocalPostgres is a session of a database's administrator over its local
// socket, in which nothing can be changed.
type LocalPostgres struct{ c *Conn }

// OpenPostgres signs in without a secret, as the owner of a local socket's
// other end may, in the database that every server has. It can only read, and no question takes longer than the
// server is given.
func OpenPostgres(conn net.Conn, account string) (LocalPostgres, error) {
	p := LocalPostgres{NewConn(conn)}
	body := binary.BigEndian.AppendUint32(nil, postgresVersion)
	for _, word := range []string{"user", account, "database", "postgres", "application_name", "uakari",
		"options", "-c default_transaction_read_only=on -c statement_timeout=2000 -c standard_conforming_strings=on"} {
		body = append(body, word+"\x00"...)
	}
	body = append(body, 0)
	if _, err := p.c.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(body)+4)), body...)); err != nil {
		return p, err
	}
	for range 50 {
		kind, message, err := p.c.postgresMessage()
		switch {
		case err != nil:
			return p, err
		case kind == 'E':
			return p, errors.New(foreign.Clean(postgresFields(message)['M']))
		case kind == 'R' && (len(message) < 4 || binary.BigEndian.Uint32(message) != 0):
			return p, errors.New(account + " is asked for a secret")
		case kind == 'Z':
			return p, nil
		}
	}
	return p, errNotPostgres
}

// Ask asks one question and gives the rows of its answer, at most so many.
// Fields that are NULL are empty.
func (p LocalPostgres) Ask(question string, most int) ([][]string, error) {
	return p.c.postgresQuery(question, most)
}

// postgresQuery is one question in text (the manual's "Simple Query").
func (c *Conn) postgresQuery(question string, most int) ([][]string, error) {
	message := binary.BigEndian.AppendUint32([]byte{'Q'}, uint32(len(question)+5))
	if _, err := c.Write(append(append(message, question...), 0)); err != nil {
		return nil, err
	}
	var rows [][]string
	var failed error
	for range most + 50 {
		kind, body, err := c.postgresMessage()
		switch {
		case err != nil:
			return nil, err
		case kind == 'E':
			fields := postgresFields(body)
			failed = fmt.Errorf("%s (%s)", foreign.Clean(fields['M']), foreign.Clean(fields['C']))
		case kind == 'D' && len(rows) < most:
			row, err := postgresRow(body)
			if err != nil {
				return nil, err
			}
			rows = append(rows, row)
		case kind == 'Z':
			return rows, failed
		}
	}
	return nil, fmt.Errorf("more than %d rows", most)
}

// postgresRow reads fields that each have their length before them.
func postgresRow(b []byte) ([]string, error) {
	if len(b) < 2 {
		return nil, errNotPostgres
	}
	n := int(binary.BigEndian.Uint16(b))
	b = b[2:]
	row := make([]string, 0, min(n, 64))
	for range n {
		if len(b) < 4 {
			return nil, errNotPostgres
		}
		size := int(int32(binary.BigEndian.Uint32(b)))
		b = b[4:]
		if size < 0 { // NULL
			row = append(row, "")
			continue
		}
		if size > len(b) {
			return nil, errNotPostgres
		}
		row = append(row, string(b[:size]))
		b = b[size:]
	}
	return row, nil
}
