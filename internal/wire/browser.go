package wire

import (
	"encoding/binary"
	"errors"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// everyInstance asks for all instances of a host (MC-SQLR section 2.2.2).
const everyInstance = "\x03"

var errNotBrowser = errors.New("not a list of instances")

func askBrowser(c *Conn, _ Question) fact.Reply {
	return c.ask("mssql-browser", "its instances", everyInstance, func(r *fact.Reply) error {
		_, err := c.instances()
		return err
	})
}

// mapBrowser asks which instances there are, and at which ports.
func mapBrowser(c *Conn) (fact.Mapper, error) {
	if _, err := c.Write([]byte(everyInstance)); err != nil {
		return fact.Mapper{}, err
	}
	return c.instances()
}

// instances reads a list: a kind, a length, and pairs of keys and values that
// semicolons part, with two after each instance (MC-SQLR section 2.2.5).
func (c *Conn) instances() (fact.Mapper, error) {
	m := fact.Mapper{Entries: []fact.MapperEntry{}}
	b := make([]byte, mostReply)
	n, err := c.Read(b)
	switch {
	case err != nil:
		return m, err
	case n < 3 || b[0] != 5 || int(binary.LittleEndian.Uint16(b[1:])) != n-3:
		return m, errNotBrowser
	}
	for each := range strings.SplitSeq(string(b[3:n]), ";;") {
		words := strings.Split(each, ";")
		e := fact.MapperEntry{Transport: "tcp"}
		for i := 0; i+1 < len(words); i += 2 {
			switch strings.ToLower(words[i]) {
			case "instancename":
				e.Name = foreign.Clean(words[i+1])
			case "tcp":
				port, err := strconv.ParseUint(words[i+1], 10, 16)
				if err != nil {
					return m, errNotBrowser
				}
				e.Port = uint16(port)
			}
		}
		if e.Name != "" && e.Port != 0 { // without, it takes no connections over TCP
			m.Entries = append(m.Entries, e)
		}
	}
	return m, nil
}
