package path

import (
	"context"
	"errors"
	"fmt"
	"net"
	"sync"
	"time"

	"golang.org/x/net/bpf"
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
func StartCapture(ctx context.Context, port uint16, secret bool) (*Capture, error) {
	fd, err := packetSocket(portFilter(uint32(port)))
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
	names := map[int]string{}
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
			names[at.Ifindex] = fmt.Sprintf("link %d", at.Ifindex)
			if link, err := net.InterfaceByIndex(at.Ifindex); err == nil {
				names[at.Ifindex] = link.Name
			}
		}
		c.add(look.Captured{
			At: time.Now(), Link: names[at.Ifindex], Out: at.Pkttype == unix.PACKET_OUTGOING, Length: n,
			Data: headers(buffer[:min(n, len(buffer))], c.payload),
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

// headers is a packet's headers and no more of what is said than so many bytes. An
// ICMP message is kept as it is: it quotes headers.
func headers(b []byte, payload int) []byte {
	h, ok := headOf(b)
	if !ok {
		return nil
	}
	end := len(b)
	switch {
	case h.protocol == unix.IPPROTO_TCP && len(b) > h.long+12:
		end = h.long + int(b[h.long+12]>>4)*4 + payload
	case h.protocol == unix.IPPROTO_UDP:
		end = h.long + 8 + payload
	}
	return append([]byte{}, b[:min(end, len(b))]...)
}

// portFilter is the kernel's filter for all packets of a port over TCP and UDP, and
// for ICMP, which may quote them.
func portFilter(port uint32) []bpf.Instruction {
	to := func(from, place int) uint8 { return uint8(place - from - 1) }
	const six, no, yes = 14, 22, 23
	return []bpf.Instruction{
		0:  bpf.LoadAbsolute{Off: 0, Size: 1},
		1:  bpf.ALUOpConstant{Op: bpf.ALUOpShiftRight, Val: 4},
		2:  bpf.JumpIf{Cond: bpf.JumpEqual, Val: 6, SkipTrue: to(2, six)},
		3:  bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: 4, SkipTrue: to(3, no)},
		4:  bpf.LoadMemShift{Off: 0},
		5:  bpf.LoadAbsolute{Off: 9, Size: 1},
		6:  bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_ICMP, SkipTrue: to(6, yes)},
		7:  bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_TCP, SkipTrue: to(7, 9)},
		8:  bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_UDP, SkipTrue: to(8, no)},
		9:  bpf.LoadIndirect{Off: 0, Size: 2},
		10: bpf.JumpIf{Cond: bpf.JumpEqual, Val: port, SkipTrue: to(10, yes)},
		11: bpf.LoadIndirect{Off: 2, Size: 2},
		12: bpf.JumpIf{Cond: bpf.JumpEqual, Val: port, SkipTrue: to(12, yes)},
		13: bpf.RetConstant{Val: 0},
		14: bpf.LoadAbsolute{Off: 6, Size: 1},
		15: bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_ICMPV6, SkipTrue: to(15, yes)},
		16: bpf.JumpIf{Cond: bpf.JumpEqual, Val: unix.IPPROTO_TCP, SkipTrue: to(16, 18)},
		17: bpf.JumpIf{Cond: bpf.JumpNotEqual, Val: unix.IPPROTO_UDP, SkipTrue: to(17, no)},
		18: bpf.LoadAbsolute{Off: 40, Size: 2},
		19: bpf.JumpIf{Cond: bpf.JumpEqual, Val: port, SkipTrue: to(19, yes)},
		20: bpf.LoadAbsolute{Off: 42, Size: 2},
		21: bpf.JumpIf{Cond: bpf.JumpEqual, Val: port, SkipTrue: to(21, yes)},
		22: bpf.RetConstant{Val: 0},
		23: bpf.RetConstant{Val: mostSnapped},
	}
}
