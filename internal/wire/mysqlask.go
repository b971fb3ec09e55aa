package wire

import (
	"encoding/binary"
	"errors"
	"fmt"
	"net"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// AskMySQL signs in without a secret, as a database's administrator may over
// its local socket, asks one question and gives the rows of its answer, at
// most so many. Fields that are NULL are empty.
func AskMySQL(conn net.Conn, account, question string, most int) ([][]string, error) {
	c := NewConn(conn)
	if g := greetMySQL(c); g.Ending != fact.Done || g.Refusal != "" {
		return nil, fmt.Errorf("no greeting: %s", g.Head)
	}
	l, err := c.mysqlLogin(Credentials{Account: account})
	if err != nil {
		return nil, err
	}
	if l.Outcome != fact.LoginAccepted {
		return nil, fmt.Errorf("%s is refused: %s", account, foreign.Clean(l.Text))
	}
	return c.mysqlQuery(question, most)
}

// mysqlQuery asks one question in a session that is open.
func (c *Conn) mysqlQuery(question string, most int) ([][]string, error) {
	const query = 3 // COM_QUERY
	c.hello().sequence = 0xff
	if err := c.mysqlSend(append([]byte{query}, question...)); err != nil {
		return nil, err
	}
	columns, err := c.mysqlPacket()
	if err != nil {
		return nil, err
	}
	if columns[0] == 0xff {
		_, text := mysqlError(columns)
		return nil, mysqlSaid(foreign.Clean(text))
	}
	// Definitions of columns, then rows; a short packet that begins with 0xfe
	// ends each ("Text Resultset").
	var rows [][]string
	for ends := 0; ends < 2; {
		packet, err := c.mysqlPacket()
		switch {
		case err != nil:
			return nil, err
		case packet[0] == 0xff:
			return nil, errNotMySQL
		case packet[0] == 0xfe && len(packet) < 9:
			ends++
		case ends == 1 && len(rows) < most:
			row, err := mysqlRow(packet)
			if err != nil {
				return nil, err
			}
			rows = append(rows, row)
		}
	}
	return rows, nil
}

// mysqlShut is why a session that was let in takes no question; "" if it takes one. An
// account whose secret ran out may do nothing but change it.
func (c *Conn) mysqlShut() string {
	_, err := c.mysqlQuery("SELECT 0", 0)
	if said := mysqlSaid(""); errors.As(err, &said) {
		return string(said)
	}
	return ""
}

// mysqlSaid is an error in the server's own words.
type mysqlSaid string

func (e mysqlSaid) Error() string { return string(e) }

// mysqlRow reads strings that each have their length before them.
func mysqlRow(b []byte) ([]string, error) {
	var row []string
	for len(b) > 0 {
		size, width := 0, 1
		switch {
		case b[0] < 0xfb:
			size = int(b[0])
		case b[0] == 0xfb: // NULL
		case b[0] == 0xfc && len(b) > 2:
			size, width = int(binary.LittleEndian.Uint16(b[1:])), 3
		default:
			return nil, errNotMySQL
		}
		if len(b) < width+size {
			return nil, errNotMySQL
		}
		row = append(row, string(b[width:width+size]))
		b = b[width+size:]
	}
	return row, nil
}
