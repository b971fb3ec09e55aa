package wire

import (
	"cmp"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// A packet of NTP (RFC 5905 section 7.3): a head of 16 bytes and four
// timestamps of 8.
const (
	ntpSize      = 48
	ntpAsk       = 0x23 // version 4, mode 3: a client
	ntpServer    = 4    // the mode of an answer
	ntpUnsettled = 3    // the leap field of a clock that is not synchronised
	ntpOrigin    = 24
	ntpTransmit  = 40
)

// ntpCookie stands where a client's own time would: the server gives it back,
// and nobody learns this host's clock from it.
const ntpCookie = "uakari\x23\x01"

// askNTP asks for the time. A server that sends a kiss-o'-death (stratum 0,
// section 7.4), or whose own clock is not set, answers with an error.
func askNTP(c *Conn, _ Question) fact.Reply {
	send := string(rune(ntpAsk)) + strings.Repeat("\x00", ntpTransmit-1) + ntpCookie
	return c.ask("ntp", "the time", send, func(r *fact.Reply) error {
		answer := make([]byte, ntpSize)
		if n, err := c.Read(answer); err != nil || n < len(answer) { // one datagram is all of it
			return cmp.Or(err, errNotNTP)
		}
		if answer[0]&7 != ntpServer || string(answer[ntpOrigin:ntpOrigin+8]) != ntpCookie {
			r.Spoke = Recognise(answer)
			return errNotNTP
		}
		stratum := answer[1]
		switch {
		case stratum == 0:
			r.Code, r.Text = foreign.Clean(string(answer[12:16])), "it sends clients away"
		case answer[0]>>6 == ntpUnsettled:
			r.Code, r.Text = "unsynchronised", "its own clock is not set"
		default:
			r.Program, r.Date = fmt.Sprintf("stratum %d", stratum), ntpTime(answer[ntpTransmit:])
		}
		return nil
	})
}

var errNotNTP = errors.New("not NTP")

// ntpTime is a timestamp: seconds since 1900 and their fraction, of the era
// that began then or of the next, from 2036 (section 6).
func ntpTime(b []byte) time.Time {
	const toUnix, era = 2_208_988_800, 1 << 32
	seconds, fraction := int64(binary.BigEndian.Uint32(b)), int64(binary.BigEndian.Uint32(b[4:]))
	if seconds < 1<<31 {
		seconds += era
	}
	return time.Unix(seconds-toUnix, fraction*1_000_000_000>>32).UTC()
}

// AskTime asks a server of time over a datagram's connection; the reply's Date is zero
// where none came.
func AskTime(c *Conn) fact.Reply { return askNTP(c, Question{Datagram: true}) }
