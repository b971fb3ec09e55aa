package path

import (
	"context"
	"errors"
	"fmt"
	"sync"
	"time"

	"golang.org/x/sys/unix"

	"uakari/internal/look"
)

// Capture keeps the packets of a port that the links of this host show.
type Capture struct {
	fd      int
	payload int
	stop    context.CancelFunc
	ended   chan struct{}

	mu   sync.Mutex // guards list
	list []look.Captured
}

// Bounds of what is kept while a port is watched: the newest of it.
const (
	mostCaptured = 2000
	mostPayload  = 128
	mostSnapped  = 60 + 60 + mostPayload // the longest headers, and the beginning of what is said
)

// StartCapture begins to keep packets: headers, and the first bytes of what is said
// unless that may hold a secret. No link is made promiscuous, and nothing stays behind.
// It needs root, or the right to raw sockets.
func StartCapture(ctx context.Context, secret bool, ports ...uint16) (*Capture, error) {
	fd, err := packetSocket(portFilter(ports...))
	if err != nil {
		return nil, fmt.Errorf("could not watch the links: %w; needs root", err)
	}
	ctx, stop := context.WithCancel(ctx)
	c := &Capture{fd: fd, payload: mostPayload, stop: stop, ended: make(chan struct{})}
	if secret {
		c.payload = 0
	}
	go c.keep(ctx)
	return c, nil
}

// Take gives what was kept since the last time.
func (c *Capture) Take() []look.Captured {
	c.mu.Lock()
	defer c.mu.Unlock()
	list := c.list
	c.list = nil
	return list
}

// Close ends the watching.
func (c *Capture) Close() {
	c.stop()
	<-c.ended
	unix.Close(c.fd)
}

// keep reads until its context ends; what is there then is still taken.
func (c *Capture) keep(ctx context.Context) {
	defer close(c.ended)
	names, own := map[int]string{}, ownFlows{}
	buffer := make([]byte, mostSnapped)
	wait := unix.NsecToTimeval(int64(4 * time.Millisecond))
	if unix.SetsockoptTimeval(c.fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &wait) != nil {
		return
	}
	for {
		n, from, err := unix.Recvfrom(c.fd, buffer, unix.MSG_TRUNC) // n is of the whole packet
		at, ok := from.(*unix.SockaddrLinklayer)
		switch {
		case errors.Is(err, unix.EAGAIN) && ctx.Err() != nil:
			return
		case errors.Is(err, unix.EAGAIN), errors.Is(err, unix.EINTR):
			continue
		case err != nil:
			return
		case !ok || at.Hatype == unix.ARPHRD_LOOPBACK && at.Pkttype == unix.PACKET_OUTGOING:
			continue // loopback shows each twice
		}
		if names[at.Ifindex] == "" {
			names[at.Ifindex] = linkName(at.Ifindex)
		}
		c.add(look.Captured{
			At: time.Now(), Link: names[at.Ifindex], Out: at.Pkttype == unix.PACKET_OUTGOING, Length: n,
			Data: c.kept(own, buffer[:min(n, len(buffer))]),
		})
	}
}

func (c *Capture) add(p look.Captured) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if len(c.list) == mostCaptured {
		c.list = c.list[1:]
	}
	c.list = append(c.list, p)
}

// kept is what is kept of a packet: its headers, and of connections of this process the first
// bytes of what is said.
func (c *Capture) kept(own ownFlows, b []byte) []byte {
	h, ok := headOf(b)
	if !ok {
		return nil
	}
	payload := 0
	if f, ok := flowOf(h, b); ok && c.payload > 0 && own.has(f) {
		payload = c.payload
	}
	return headers(h, b, payload)
}

// quotedBehind is how much an ICMP message quotes behind a network's header at least: ports
// and numbers (RFC 792).
const quotedBehind = 8

// headers is a packet's headers and no more of what is said than so many bytes. Of an ICMP
// message it is what that quotes of headers.
func headers(h head, b []byte, payload int) []byte {
	end := len(b)
	switch {
	case h.protocol == unix.IPPROTO_TCP && len(b) > h.long+12:
		end = h.long + int(b[h.long+12]>>4)*4 + payload
	case h.protocol == unix.IPPROTO_UDP:
		end = h.long + 8 + payload
	case h.protocol == icmp4 || h.protocol == icmp6:
		at := min(h.long+8, len(b))
		if quoted, ok := headOf(b[at:]); ok {
			end = at + quoted.long + quotedBehind
		}
	default:
		end = min(end, h.long)
	}
	return append([]byte{}, b[:min(end, len(b))]...)
}
