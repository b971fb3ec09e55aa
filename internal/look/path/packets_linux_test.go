package path

import (
	"encoding/binary"
	"net/netip"
	"slices"
	"testing"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"
)

// segment is a packet as it comes from a link: from port 40001 or to it, with
// options in the header of IPv4.
func segment(six bool, from, to uint16, flags, protocol byte) []byte {
	b := make([]byte, 40)
	if six {
		b[0], b[6], b[7] = 6<<4, protocol, 63
		b[23], b[39] = 1, 2
	} else {
		b = b[:24]
		b[0], b[8], b[9] = 4<<4|6, 63, protocol
		copy(b[12:], []byte{10, 20, 7, 31, 10, 20, 0, 14})
	}
	if protocol != unix.IPPROTO_TCP {
		return append(b, byte(flags), 0, 0, 0)
	}
	tcp := make([]byte, 20)
	binary.BigEndian.PutUint16(tcp, from)
	binary.BigEndian.PutUint16(tcp[2:], to)
	binary.BigEndian.PutUint32(tcp[4:], 7)
	binary.BigEndian.PutUint32(tcp[8:], 9)
	tcp[12], tcp[13] = 5<<4, flags
	return append(b, tcp...)
}

// fromLink is a packet on eth0, whose checksum is not known.
func fromLink(b []byte, at unix.SockaddrLinklayer) packetOnLink {
	return packetOnLink{data: b, at: &at, link: "eth0", ms: 1, unsummed: true}
}

// TestFlowFilter runs the kernel's filter over packets, and takes what it lets
// through.
func TestFlowFilter(t *testing.T) {
	vm, err := bpf.NewVM(flowFilter(8080, false))
	if err != nil {
		t.Fatal(err)
	}
	const tcp = unix.IPPROTO_TCP
	for _, c := range []struct {
		name   string
		packet []byte
		flags  string // "" : not let through, or no segment
		echo   bool
	}{
		{"an opening", segment(false, 40001, 8080, 2, tcp), "SYN", false},
		{"its answer", segment(false, 8080, 40001, 18, tcp), "SYN ACK", false},
		{"a reset", segment(false, 8080, 40001, 20, tcp), "RST ACK", false},
		{"data", segment(false, 40001, 8080, 24, tcp), "", false},
		{"another port", segment(false, 40001, 8081, 2, tcp), "", false},
		{"another protocol", segment(false, 40001, 8080, 8, unix.IPPROTO_UDP), "", false},
		{"an echo request", segment(false, 0, 0, 8, unix.IPPROTO_ICMP), "", true},
		{"an echo reply", segment(false, 0, 0, 0, unix.IPPROTO_ICMP), "", false},
		{"an opening over IPv6", segment(true, 40001, 8080, 2, tcp), "SYN", false},
		{"its answer over IPv6", segment(true, 8080, 40001, 18, tcp), "SYN ACK", false},
		{"data over IPv6", segment(true, 8080, 40001, 16, tcp), "", false},
		{"another port over IPv6", segment(true, 40001, 8081, 2, tcp), "", false},
		{"an echo request over IPv6", segment(true, 0, 0, 128, unix.IPPROTO_ICMPV6), "", true},
		{"another protocol over IPv6", segment(true, 0, 0, 8, unix.IPPROTO_UDP), "", false},
		{"an opening behind a header of IPv6", behind(40001, 8080, 2), "SYN", false},
	} {
		n, err := vm.Run(c.packet)
		if err != nil {
			t.Fatal(err)
		}
		if passes := c.flags != "" || c.echo; passes != (n > 0) {
			t.Errorf("%s: let through %d bytes", c.name, n)
		}
		if n == 0 {
			continue
		}
		p := seenPackets{port: 8080}
		p.take(fromLink(c.packet, unix.SockaddrLinklayer{}))
		switch {
		case c.echo:
			if len(p.Echoes) != 1 || len(p.Segments) != 0 {
				t.Errorf("%s: %+v", c.name, p)
			}
		case len(p.Segments) != 1 || p.Segments[0].Flags != c.flags || p.Segments[0].Sequence != 7 ||
			p.Segments[0].Acknowledged != 9 || p.Segments[0].Hops != 63:
			t.Errorf("%s: %+v", c.name, p)
		}
		for short := range c.packet { // a packet that is cut anywhere leaves nothing, and breaks nothing
			cut := seenPackets{port: 8080}
			if cut.take(fromLink(c.packet[:short], unix.SockaddrLinklayer{})); len(cut.Segments) > 0 {
				t.Errorf("%s, cut to %d bytes: %+v", c.name, short, cut)
			}
		}
	}
	p := seenPackets{port: 8080}
	p.take(fromLink(segment(false, 40001, 8080, 2, tcp), unix.SockaddrLinklayer{Hatype: unix.ARPHRD_LOOPBACK}))
	for range mostSegments + 1 {
		p.take(fromLink(segment(false, 40001, 8080, 2, tcp), unix.SockaddrLinklayer{}))
	}
	if len(p.Segments) != mostSegments || !p.More ||
		p.Segments[0].From != netip.MustParseAddrPort("10.20.7.31:40001") {
		t.Errorf("%d segments, more %v, %+v", len(p.Segments), p.More, p.Segments[0])
	}
	if got, want := p.saw(), "120 SYN in by eth0, and more than are kept"; got != want {
		t.Errorf("it says %q, want %q", got, want)
	}
}

// TestBesideFlow takes what is said about a flow, and who is asked for on the links.
func TestBesideFlow(t *testing.T) {
	vm, err := bpf.NewVM(flowFilter(8080, false))
	if err != nil {
		t.Fatal(err)
	}
	icmp := func(six bool, kind, code byte, rest ...byte) []byte {
		protocol := byte(unix.IPPROTO_ICMP)
		if six {
			protocol = unix.IPPROTO_ICMPV6
		}
		b := segment(six, 0, 0, kind, protocol)
		b[len(b)-3] = code
		return append(append(b, 0, 0, 0, 0), rest...)
	}
	arp := func(what byte, sender, target [4]byte) []byte {
		b := []byte{0, 1, 8, 0, 6, 4, 0, what, 2, 0, 0, 0, 0, 1}
		b = append(append(b, sender[:]...), 0, 0, 0, 0, 0, 0)
		return append(b, target[:]...)
	}
	own, router := [4]byte{10, 20, 7, 31}, [4]byte{10, 20, 7, 1}
	six := netip.MustParseAddr("fd20:7::1").As16()
	const out, in = unix.PACKET_OUTGOING, unix.PACKET_HOST
	for _, c := range []struct {
		name   string
		packet []byte
		way    byte
		passes bool
		want   string // what the watch says then
	}{
		{"an error about the flow", icmp(false, 3, 13, segment(false, 40001, 8080, 2, unix.IPPROTO_TCP)...), in, true,
			"ICMP type 3 code 13 from 10.20.7.31"},
		{"an error about another port", icmp(false, 3, 13, segment(false, 40001, 8081, 2, unix.IPPROTO_TCP)...), in,
			true, "none"},
		{"an error that quotes nothing", icmp(false, 11, 0), in, true, "none"},
		{"a redirect", icmp(false, 5, 0, segment(false, 40001, 8080, 2, unix.IPPROTO_TCP)...), in, false, ""},
		{"an error over IPv6", icmp(true, 1, 3, segment(true, 40001, 8080, 2, unix.IPPROTO_TCP)...), in, true,
			"ICMP type 1 code 3 from ::1"},
		{"a neighbour is asked for", arp(1, own, router), out, true, "asks for 10.20.7.1 on eth0, and nobody answers"},
		{"another's question", arp(1, router, own), in, true, "none"},
		{"a neighbour over IPv6", icmp(true, 135, 0, six[:]...), out, true,
			"asks for fd20:7::1 on eth0, and nobody answers"},
		{"an answer to nobody", icmp(true, 136, 0, six[:]...), in, true, "none"},
		{"a router's word", icmp(true, 134, 0, six[:]...), in, false, ""},
	} {
		n, err := vm.Run(c.packet)
		if err != nil || (n > 0) != c.passes {
			t.Errorf("%s: let through %d bytes, %v", c.name, n, err)
		}
		if !c.passes {
			continue
		}
		p := seenPackets{port: 8080}
		p.take(fromLink(c.packet, unix.SockaddrLinklayer{Pkttype: c.way}))
		if got := p.saw(); got != c.want {
			t.Errorf("%s: %q, want %q", c.name, got, c.want)
		}
		for short := range c.packet { // a packet that is cut anywhere breaks nothing
			(&seenPackets{port: 8080}).take(fromLink(c.packet[:short], unix.SockaddrLinklayer{Pkttype: c.way}))
		}
	}
	p := seenPackets{port: 8080}
	for _, each := range []struct {
		packet []byte
		way    byte
	}{{arp(1, own, router), out}, {arp(1, own, router), out}, {arp(2, router, own), in},
		{icmp(true, 135, 0, six[:]...), out}, {icmp(true, 136, 0, six[:]...), in}} {
		p.take(fromLink(each.packet, unix.SockaddrLinklayer{Pkttype: each.way}))
	}
	if by := p.Asked[0].By; len(by) != 1 || by[0] != "02:00:00:00:00:01" {
		t.Errorf("%v answered", by)
	}
	if len(p.Asked) != 2 || p.Asked[0].Times != 2 || !p.Asked[0].Answered || !p.Asked[1].Answered {
		t.Errorf("%+v", p.Asked)
	}
}

// behind is a segment of IPv6 behind options for its receiver and a whole fragment.
func behind(from, to uint16, flags byte) []byte {
	b := segment(true, from, to, flags, unix.IPPROTO_TCP)
	between := []byte{unix.IPPROTO_FRAGMENT, 0, 1, 4, 0, 0, 0, 0, unix.IPPROTO_TCP, 0, 0, 0, 0, 0, 0, 1}
	b[6] = unix.IPPROTO_DSTOPTS
	return slices.Concat(b[:40], between, b[40:])
}

// TestBetween goes past what stands between the header of IPv6 and what it carries.
func TestBetween(t *testing.T) {
	later := behind(40001, 8080, 2)
	later[50], later[51] = 1, 0 // a fragment that does not begin it
	endless := behind(40001, 8080, 2)
	endless[48] = unix.IPPROTO_DSTOPTS
	for name, c := range map[string]struct {
		packet []byte
		keeps  int
	}{
		"an opening":      {behind(40001, 8080, 2), 1},
		"another port":    {behind(40001, 8081, 2), 0},
		"data":            {behind(40001, 8080, 16), 0},
		"a later part":    {later, 0},
		"headers and end": {endless, 0},
	} {
		p := seenPackets{port: 8080}
		p.take(fromLink(c.packet, unix.SockaddrLinklayer{}))
		if len(p.Segments) != c.keeps {
			t.Errorf("%s: %+v", name, p.Segments)
		}
	}
}

// TestLargePackets takes those of nearly full size where they are wanted, from the
// kernel's filter on.
func TestLargePackets(t *testing.T) {
	for _, six := range []bool{false, true} {
		for _, c := range []struct {
			long  uint16
			large bool
			keeps bool
		}{{1500, true, true}, {1500, false, false}, {1200, true, false}, {65000, true, true}} {
			b := segment(six, 8080, 40001, 16, unix.IPPROTO_TCP)
			at, long := 2, c.long
			if six {
				at, long = 4, c.long-40
			}
			binary.BigEndian.PutUint16(b[at:], long)
			vm, err := bpf.NewVM(flowFilter(8080, c.large))
			if err != nil {
				t.Fatal(err)
			}
			n, err := vm.Run(b)
			if err != nil || (n > 0) != c.keeps {
				t.Errorf("%+v, IPv6 %v: %d bytes, %v", c, six, n, err)
			}
			p := seenPackets{port: 8080, large: c.large}
			p.take(fromLink(b, unix.SockaddrLinklayer{}))
			if (len(p.Segments) == 1 && p.Segments[0].Length == int(c.long)) != c.keeps {
				t.Errorf("%+v, IPv6 %v: %+v", c, six, p.Segments)
			}
		}
	}
}

// TestSums tells a wrong checksum from a right one, and from one that is not known.
func TestSums(t *testing.T) {
	// A real opening from 10.20.7.31:40001 to 10.20.0.14:8080.
	right := segment(false, 40001, 8080, 2, unix.IPPROTO_TCP)
	binary.BigEndian.PutUint16(right[2:], uint16(len(right)))
	h, ok := headOf(right)
	if !ok {
		t.Fatal("no header")
	}
	for sum := range 1 << 16 { // the one that is right, by trying
		if binary.BigEndian.PutUint16(right[24+16:], uint16(sum)); sums(h, right[24:]) {
			break
		}
	}
	wrong := slices.Clone(right)
	wrong[24+16] ^= 0x10
	moved := slices.Clone(right)
	moved[15]++ // an address that was changed, and the checksum was not
	for name, c := range map[string]struct {
		b                 []byte
		unsummed, checked bool
		way               byte
		want              bool
	}{
		"right": {b: right}, "wrong": {b: wrong, want: true}, "another address": {b: moved, want: true},
		"not made yet": {b: wrong, unsummed: true}, "the kernel knows it to be right": {b: wrong, checked: true},
		"of this host": {b: wrong, way: unix.PACKET_OUTGOING}, "cut": {b: wrong[:len(wrong)-1]},
	} {
		packet := fromLink(c.b, unix.SockaddrLinklayer{Pkttype: c.way})
		packet.unsummed, packet.checked = c.unsummed, c.checked
		p := seenPackets{port: 8080}
		if p.take(packet); len(p.Segments) > 0 && p.Segments[0].Damaged != c.want {
			t.Errorf("%s: %+v", name, p.Segments[0])
		}
	}
	if unsummed, _ := sumState(nil); !unsummed {
		t.Error("a kernel that says nothing is taken for one that says something")
	}
}

// TestOptionWords reads options, also where they are cut or make no sense.
func TestOptionWords(t *testing.T) {
	whole := []byte{2, 4, 5, 180, 4, 2, 8, 10, 0, 0, 0, 0, 0, 0, 0, 0, 1, 3, 3, 7}
	for _, c := range []struct {
		b    []byte
		want string
	}{
		{whole, "mss 1460, sack, timestamps, scale 7"}, {whole[:6], "mss 1460, sack"}, {whole[:3], ""},
		{[]byte{2, 0, 5}, ""}, {[]byte{2, 1}, ""},
		{[]byte{1, 1, 0, 9}, ""}, {[]byte{30, 3, 1}, "option 30"}, {nil, ""},
	} {
		if got := optionWords(c.b); got != c.want {
			t.Errorf("%v: %q, want %q", c.b, got, c.want)
		}
	}
}

// TestPortFilter takes every packet of a port, and keeps no more of what is said than
// it may.
func TestPortFilter(t *testing.T) {
	vm, err := bpf.NewVM(portFilter(8080))
	if err != nil {
		t.Fatal(err)
	}
	const tcp, udp = unix.IPPROTO_TCP, unix.IPPROTO_UDP
	for _, c := range []struct {
		packet []byte
		want   bool
	}{
		{segment(false, 40001, 8080, 24, tcp), true}, {segment(false, 8080, 40001, 16, tcp), true},
		{segment(false, 1, 2, 2, tcp), false},
		{segment(true, 40001, 8080, 24, tcp), true}, {segment(true, 8080, 40001, 16, tcp), true},
		{segment(true, 1, 2, 2, tcp), false},
		{segment(false, 0, 0, 3, unix.IPPROTO_ICMP), true}, {segment(true, 0, 0, 1, unix.IPPROTO_ICMPV6), true},
		{append(segment(false, 0, 0, 0x1f, udp)[:24], 0x9c, 0x41, 0x1f, 0x90, 0, 0, 0, 0), true},
		{segment(false, 0, 0, 8, 47), false},
	} {
		n, err := vm.Run(c.packet)
		if err != nil || (n > 0) != c.want {
			t.Errorf("%v: %d bytes, %v; expected %v", c.packet, n, err, c.want)
		}
	}
	said := append(segment(false, 40001, 8080, 24, tcp), make([]byte, 100)...)
	h, _ := headOf(said)
	if got := headers(h, said, 0); len(got) != 24+20 {
		t.Errorf("%d bytes of a packet that may hold a secret; expected its headers alone", len(got))
	}
	if got := headers(h, said, 60); len(got) != 24+20+60 {
		t.Errorf("%d bytes", len(got))
	}
	c := Capture{payload: 60}
	if got := c.kept(ownFlows{}, said); len(got) != 24+20 {
		t.Errorf("%d bytes of a connection that is not of this process; expected its headers alone", len(got))
	}
	quoting := append(segment(false, 0, 0, 3, unix.IPPROTO_ICMP)[:24+8], said...)
	if got := c.kept(ownFlows{}, quoting); len(got) > 24+8+24+quotedBehind {
		t.Errorf("%d bytes of a message that quotes a packet; expected headers alone", len(got))
	}
	for short := range said {
		c.kept(ownFlows{}, said[:short])
	}
}
