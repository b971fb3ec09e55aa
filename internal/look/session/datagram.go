package session

import (
	"context"
	"net"
	"net/netip"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/errqueue"
	"uakari/internal/wire"
)

// asks is how often a question is put in a datagram, within the time of one
// connect: datagrams get lost on ways that are well.
const asks = 3

// longestSilence is how long an answer is waited for where no question is known.
const longestSilence = 1500 * time.Millisecond

// kept is a connection that keeps the error that ended its last step.
type kept struct {
	net.Conn
	err error
}

func (k *kept) Read(p []byte) (n int, err error) {
	n, k.err = k.Conn.Read(p)
	return n, k.err
}

func (k *kept) Write(p []byte) (n int, err error) {
	n, k.err = k.Conn.Write(p)
	return n, k.err
}

// datagrams climbs without a connection: the question itself is the first
// packet, and only an answer, or who refuses it, tells anything. Where no
// question is known, an empty datagram is sent once.
func (c *climber) datagrams(ctx context.Context) {
	w := errqueue.New()
	defer w.Close()
	began := time.Now()
	wait := look.Within(ctx, c.env.Patience())
	if c.wire.Ask == nil { // silence is to be expected
		wait = min(wait, longestSilence)
	}
	raw, err := c.open(ctx, w, wait)
	if err != nil {
		c.reached(began, failure(err, w))
		return
	}
	defer raw.Close()
	stop := context.AfterFunc(ctx, func() { raw.SetDeadline(time.Unix(1, 0)) })
	defer stop()
	conn := &kept{Conn: raw}
	var local netip.AddrPort
	if at, ok := raw.LocalAddr().(*net.UDPAddr); ok {
		local = unmap(at.AddrPort())
	}
	for n := range asks {
		conn.SetDeadline(began.Add(wait * time.Duration(n+1) / asks))
		r := c.question(conn)
		icmp := w.ICMP()
		if icmp == nil && conn.err != nil && isTimeout(conn.err) && ctx.Err() == nil && n+1 < asks {
			continue
		}
		result := fact.Connect{Outcome: fact.Connected}
		if icmp != nil {
			result = fact.Connect{Outcome: fact.ICMP, ICMP: icmp}
		} else if conn.err != nil {
			result = failure(conn.err, w)
		}
		result.Local = local
		c.reached(began, result)
		if result.Outcome == fact.Connected && !c.unshared {
			f := c.env.Seen(c.order, r.Asked+" of "+c.address(), sawReply(r))
			f.Reply = &r
			c.emit(f)
		}
		return
	}
}

// open is a socket for datagrams to the target: connected to it, or to any port of
// its host, where answers come from another one.
func (c *climber) open(ctx context.Context, w *errqueue.Witness, wait time.Duration) (net.Conn, error) {
	to := netip.AddrPortFrom(c.order.Target.Addr, c.order.Target.Port)
	dialer := net.Dialer{Timeout: wait, Control: w.Control}
	raw, err := dialer.DialContext(ctx, "udp", to.String())
	if err != nil || !c.wire.AnyPort {
		return raw, err
	}
	at, ok := raw.LocalAddr().(*net.UDPAddr)
	raw.Close()
	if !ok {
		return nil, net.ErrClosed
	}
	// The same address as the kernel chose, and a port of its own choice.
	l := net.ListenConfig{Control: w.Control}
	packets, err := l.ListenPacket(ctx, "udp", (&net.UDPAddr{IP: at.IP, Zone: at.Zone}).String())
	if err != nil {
		return nil, err
	}
	return &anyPort{PacketConn: packets, to: net.UDPAddrFromAddrPort(to)}, nil
}

// anyPort is datagrams to a host: what comes from it is taken from any port, and
// answered there.
type anyPort struct {
	net.PacketConn
	to *net.UDPAddr
}

func (a *anyPort) Read(p []byte) (int, error) {
	for {
		n, from, err := a.ReadFrom(p)
		if err != nil {
			return n, err
		}
		if at, ok := from.(*net.UDPAddr); ok && at.IP.Equal(a.to.IP) {
			a.to = at
			return n, nil
		}
	}
}

func (a *anyPort) Write(p []byte) (int, error) { return a.WriteTo(p, a.to) }

func (a *anyPort) RemoteAddr() net.Addr { return a.to }

// question puts the protocol's question once.
func (c *climber) question(conn net.Conn) fact.Reply {
	if c.wire.Ask != nil {
		return c.wire.Ask(wire.NewConn(conn), wire.Question{
			Host: c.hostHeader(), Path: c.path(), Shared: c.env.Shared, Datagram: true,
		})
	}
	if _, err := conn.Write(nil); err == nil {
		conn.Read(make([]byte, 1)) // its error is kept
	}
	return fact.Reply{Ending: fact.Done, Asked: fact.EmptyDatagram}
}

// reached leaves what became of the first packet.
func (c *climber) reached(began time.Time, result fact.Connect) {
	result.TookMS = wire.MS(time.Since(began))
	saw := sawConnect(result)
	if result.Outcome == fact.Connected {
		saw = "answered after " + short(result.TookMS)
	}
	f := c.env.Seen(c.order, "datagram to "+c.address(), saw)
	f.Connect = &result
	c.emit(f)
}
