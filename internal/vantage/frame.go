package vantage

import (
	"encoding/binary"
	"errors"
)

// What comes back over a broker is said line by line, as over SSH, and carried in
// messages of a bounded size: a running number, whether the line goes on in the
// next message, and a part of the line.

// mostPart bounds a part, in bytes: brokers carry 1 MiB unless they are told else.
const mostPart = 256 << 10

const partHead = 5

// parts is a line as messages, the first having the number n.
func parts(n uint32, line []byte) [][]byte {
	var list [][]byte
	for first := true; first || len(line) > 0; first = false {
		part := line[:min(len(line), mostPart)]
		line = line[len(part):]
		message := make([]byte, partHead, partHead+len(part))
		binary.BigEndian.PutUint32(message, n)
		if len(line) > 0 {
			message[4] = 1
		}
		list, n = append(list, append(message, part...)), n+1
	}
	return list
}

// joined puts lines together again.
type joined struct {
	next uint32
	line []byte
}

var errLost = errors.New("a message was lost on the way")

// add takes a message, and gives the line that it ends, if it ends one.
func (j *joined) add(message []byte) (line []byte, ended bool, err error) {
	if len(message) < partHead || binary.BigEndian.Uint32(message) != j.next {
		return nil, false, errLost
	}
	j.next++
	if j.line = append(j.line, message[partHead:]...); len(j.line) > mostSaid {
		return nil, false, errTalk
	}
	if message[4] != 0 {
		return nil, false, nil
	}
	line, j.line = j.line, nil
	return line, true, nil
}
