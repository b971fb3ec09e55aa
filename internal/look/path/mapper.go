package path

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/netip"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// programs are names for the numbers that port mappers register most (the
// registry of RFC 5531).
var programs = map[uint32]string{100000: "portmapper", 100003: "nfs", 100005: "mountd", 100021: "nlockmgr", 100024: "status", 100004: "ypserv", 100007: "ypbind", 100227: "nfs_acl"}

// Mapper asks the port mapper of a host what is registered there (RFC 1833,
// procedure 4 of version 2, over TCP).
func Mapper(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	t := order.Target
	to := netip.AddrPortFrom(t.Addr, t.Port)
	m, err := askMapper(ctx, env, to)
	source := "port mapper " + to.String()
	if err != nil {
		emit(env.Failed(order, source, "could not ask the port mapper", err, "a mapper that answers on port "+fmt.Sprint(t.Port)))
		return
	}
	f := env.Seen(order, source, fmt.Sprintf("%d registered", len(m.Entries)))
	f.Mapper = &m
	emit(f)
}

var errNotMapper = errors.New("what answers is no port mapper")

// mostMapped bounds a mapper's answer, in bytes.
const mostMapped = 256 << 10

func askMapper(ctx context.Context, env look.Env, to netip.AddrPort) (fact.Mapper, error) {
	m := fact.Mapper{Entries: []fact.MapperEntry{}}
	d := net.Dialer{Timeout: env.Patience()}
	conn, err := d.DialContext(ctx, "tcp", to.String())
	if err != nil {
		return m, err
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(look.Within(ctx, env.Patience())))
	// One call (RFC 5531 section 9): its id, no credentials.
	const id = 0x75616b61
	var call []byte
	for _, word := range []uint32{id, 0, 2, 100000, 2, 4, 0, 0, 0, 0} {
		call = binary.BigEndian.AppendUint32(call, word)
	}
	if _, err := conn.Write(append(binary.BigEndian.AppendUint32(nil, uint32(len(call))|1<<31), call...)); err != nil {
		return m, err
	}
	var answer []byte
	for last := false; !last; {
		var head [4]byte
		if _, err := io.ReadFull(conn, head[:]); err != nil {
			return m, err
		}
		mark := binary.BigEndian.Uint32(head[:])
		last = mark&(1<<31) != 0
		size := int(mark &^ (1 << 31))
		if len(answer)+size > mostMapped {
			return m, errNotMapper
		}
		part := make([]byte, size)
		if _, err := io.ReadFull(conn, part); err != nil {
			return m, err
		}
		answer = append(answer, part...)
	}
	words := make([]uint32, len(answer)/4)
	for i := range words {
		words[i] = binary.BigEndian.Uint32(answer[4*i:])
	}
	// Id, reply, accepted, no verifier, success.
	if len(words) < 7 || words[0] != id || words[1] != 1 || words[2] != 0 || words[5] != 0 {
		return m, errNotMapper
	}
	for rest := words[6:]; len(rest) >= 5 && rest[0] == 1; rest = rest[5:] {
		transport := map[uint32]string{6: "tcp", 17: "udp"}[rest[3]]
		if transport != "" && rest[4] <= 65535 {
			m.Entries = append(m.Entries, fact.MapperEntry{Program: rest[1], Name: programs[rest[1]], Version: rest[2], Transport: transport, Port: uint16(rest[4])})
		}
	}
	return m, nil
}
