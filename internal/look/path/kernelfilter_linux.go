package path

import (
	"encoding/binary"

	"golang.org/x/net/bpf"
	"golang.org/x/sys/unix"

	"uakari/internal/fact"
)

// packetSocket is a socket that the kernel hands copies of the packets to that a
// filter takes.
func packetSocket(filter []bpf.Instruction) (int, error) {
	all := int(binary.BigEndian.Uint16(binary.NativeEndian.AppendUint16(nil, unix.ETH_P_ALL)))
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return -1, err
	}
	program, err := bpf.Assemble(filter)
	if err == nil {
		raw := make([]unix.SockFilter, len(program))
		for i, each := range program {
			raw[i] = unix.SockFilter{Code: each.Op, Jt: each.Jt, Jf: each.Jf, K: each.K}
		}
		err = unix.SetsockoptSockFprog(
			fd,
			unix.SOL_SOCKET,
			unix.SO_ATTACH_FILTER,
			&unix.SockFprog{Len: uint16(len(raw)), Filter: &raw[0]},
		)
	}
	if err == nil {
		err = unix.SetsockoptInt(fd, unix.SOL_PACKET, unix.PACKET_AUXDATA, 1)
	}
	if err == nil {
		err = unix.Bind(fd, &unix.SockaddrLinklayer{Protocol: uint16(all)})
	}
	if err != nil {
		unix.Close(fd)
		return -1, err
	}
	return fd, nil
}

// kernelFilter is a program for the kernel, over packets that begin with the header of
// the network, whose jumps lead to places by name.
type kernelFilter struct {
	lines  []bpf.Instruction
	places map[string]int
	jumps  map[int]string
}

// The two places where a program ends.
const (
	keepIt = "keep"
	dropIt = "drop"
)

func (k *kernelFilter) add(line bpf.Instruction) { k.lines = append(k.lines, line) }

// load takes a value of the packet; loadCarried one of what IPv4 carries.
func (k *kernelFilter) load(at uint32, size int) { k.add(bpf.LoadAbsolute{Off: at, Size: size}) }

func (k *kernelFilter) loadCarried(at uint32, size int) {
	k.add(bpf.LoadIndirect{Off: at, Size: size})
}

// when goes to a place if the value that was loaded is so.
func (k *kernelFilter) when(is bpf.JumpTest, value uint32, place string) {
	k.jumps[len(k.lines)] = place
	k.add(bpf.JumpIf{Cond: is, Val: value})
}

// always goes to a place.
func (k *kernelFilter) always(place string) {
	k.jumps[len(k.lines)] = place
	k.add(bpf.Jump{})
}

// place names the next line.
func (k *kernelFilter) place(name string) { k.places[name] = len(k.lines) }

// done is the program, which keeps so many bytes of a packet that it takes.
func (k *kernelFilter) done(keep uint32) []bpf.Instruction {
	k.place(dropIt)
	k.add(bpf.RetConstant{Val: 0})
	k.place(keepIt)
	k.add(bpf.RetConstant{Val: keep})
	for from, name := range k.jumps {
		skip := k.places[name] - from - 1
		if jump, ok := k.lines[from].(bpf.JumpIf); ok {
			jump.SkipTrue = uint8(skip)
			k.lines[from] = jump
			continue
		}
		k.lines[from] = bpf.Jump{Skip: uint32(skip)}
	}
	return k.lines
}

// carries begins a program: of IPv4 it goes to the place of what a packet carries, with
// the length of its header at hand; of IPv6 too, by names with a 6. Of IPv6 with
// headers between, all are kept: their reader goes past those.
func carries(protocols map[uint32]string, other string) *kernelFilter {
	k := &kernelFilter{places: map[string]int{}, jumps: map[int]string{}}
	k.load(0, 1)
	k.add(bpf.ALUOpConstant{Op: bpf.ALUOpShiftRight, Val: 4})
	k.when(bpf.JumpEqual, 6, "six")
	k.when(bpf.JumpNotEqual, 4, other)
	k.add(bpf.LoadMemShift{Off: 0})
	k.load(9, 1)
	for _, each := range []uint32{unix.IPPROTO_ICMP, unix.IPPROTO_TCP, unix.IPPROTO_UDP} {
		if place, ok := protocols[each]; ok {
			k.when(bpf.JumpEqual, each, place)
		}
	}
	k.always(dropIt)
	k.place("six")
	k.load(6, 1)
	for _, each := range between {
		k.when(bpf.JumpEqual, uint32(each), keepIt)
	}
	for _, each := range []uint32{unix.IPPROTO_ICMPV6, unix.IPPROTO_TCP, unix.IPPROTO_UDP} {
		if place, ok := protocols[each]; ok && place != keepIt {
			k.when(bpf.JumpEqual, each, place+"6")
		} else if ok {
			k.when(bpf.JumpEqual, each, keepIt)
		}
	}
	k.always(dropIt)
	return k
}

// flowFilter takes what opens or resets TCP connections from or to a port, if wanted
// packets of nearly full size too, and echo requests, errors, and questions for
// neighbours with their answers.
func flowFilter(port uint32, large bool) []bpf.Instruction {
	const six = 40 // bytes of the header of IPv6
	k := carries(map[uint32]string{unix.IPPROTO_ICMP: "icmp", unix.IPPROTO_ICMPV6: "icmp", unix.IPPROTO_TCP: "tcp"},
		"link")
	k.place("link")
	k.when(bpf.JumpEqual, 0, keepIt) // ARP: its first byte is the kind of the link
	k.always(dropIt)
	k.place("icmp")
	k.loadCarried(0, 1)
	for _, kind := range []uint32{8, 3, 11, 12} {
		k.when(bpf.JumpEqual, kind, keepIt)
	}
	k.always(dropIt)
	k.place("icmp6")
	k.load(six, 1)
	k.when(bpf.JumpLessThan, 5, keepIt)
	for _, kind := range []uint32{128, 135, 136} {
		k.when(bpf.JumpEqual, kind, keepIt)
	}
	k.always(dropIt)
	k.place("tcp")
	k.loadCarried(0, 2)
	k.when(bpf.JumpEqual, port, "mine")
	k.loadCarried(2, 2)
	k.when(bpf.JumpNotEqual, port, dropIt)
	k.place("mine")
	if large {
		k.load(2, 2)
		k.when(bpf.JumpGreaterOrEqual, fact.LargePacket, keepIt)
	}
	k.loadCarried(13, 1)
	k.always("flags")
	k.place("tcp6")
	k.load(six, 2)
	k.when(bpf.JumpEqual, port, "mine6")
	k.load(six+2, 2)
	k.when(bpf.JumpNotEqual, port, dropIt)
	k.place("mine6")
	if large {
		k.load(4, 2)
		k.when(bpf.JumpGreaterOrEqual, fact.LargePacket-six, keepIt)
	}
	k.load(six+13, 1)
	k.place("flags")
	k.when(bpf.JumpBitsSet, flagSYN|flagRST, keepIt)
	return k.done(mostHeader)
}

// portFilter takes all packets of some ports over TCP and UDP, and ICMP, which may
// quote them.
func portFilter(ports ...uint16) []bpf.Instruction {
	k := carries(map[uint32]string{
		unix.IPPROTO_ICMP: keepIt, unix.IPPROTO_ICMPV6: keepIt, unix.IPPROTO_TCP: "ports", unix.IPPROTO_UDP: "ports",
	}, dropIt)
	for _, end := range []uint32{0, 2} {
		if end == 0 {
			k.place("ports")
		}
		k.loadCarried(end, 2)
		for _, port := range ports {
			k.when(bpf.JumpEqual, uint32(port), keepIt)
		}
	}
	k.always(dropIt)
	k.place("ports6")
	for _, end := range []uint32{40, 42} {
		k.load(end, 2)
		for _, port := range ports {
			k.when(bpf.JumpEqual, uint32(port), keepIt)
		}
	}
	return k.done(mostSnapped)
}
