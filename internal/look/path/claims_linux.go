package path

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// Bounds on asking a link who has an address: how long answers are taken, how
// many are kept, and how many of this host's own addresses are asked for.
const (
	claimTime  = 400 * time.Millisecond
	mostClaims = 8
)

// Claims asks a link which machines have an address, by a probe that changes
// nothing at those who hear it (RFC 5227 section 2.1.1). Without an address it
// asks for all of this host's own, which nobody else should answer for. Over
// IPv6 the kernel does so by itself when it takes an address (RFC 4862 section
// 5.4).
func Claims(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	source := "who answers for " + order.Target.Addr.String() + " on the link"
	if !order.Target.Addr.IsValid() {
		source = "who else answers for this host's addresses"
	}
	asked, err := onLinks(order.Target.Addr)
	if err != nil {
		emit(env.Failed(order, source, "could not ask the link", err, ""))
		return
	}
	list := make([]fact.Claim, len(asked))
	failed := make([]error, len(asked))
	var wg sync.WaitGroup
	for i, each := range asked {
		wg.Go(func() {
			list[i] = fact.Claim{Addr: each.addr, Dev: each.link.Name, Own: order.Target.Addr != each.addr}
			list[i].MACs, failed[i] = probe(ctx, each.link, each.addr)
		})
	}
	wg.Wait()
	if err := errors.Join(failed...); err != nil {
		emit(
			env.Failed(
				order,
				source,
				"could not ask the link",
				failed[slices.IndexFunc(failed, func(e error) bool { return e != nil })],
				"root",
			),
		)
		return
	}
	answers := 0
	for _, c := range list {
		answers += len(c.MACs)
	}
	f := env.Seen(order, source, fmt.Sprintf("%d of %d", answers, len(list))+" answered")
	if order.Target.Addr.IsValid() && len(list) == 1 {
		f.Saw = fmt.Sprintf("%d machines answer on %s: %v", answers, list[0].Dev, list[0].MACs)
	}
	f.Claims = &fact.Claims{List: list}
	emit(f)
}

// onLink is an IPv4 address and the link on which it is asked for.
type onLink struct {
	addr netip.Addr
	link *netlink.LinkAttrs
}

// onLinks is where an address is asked for: the link it is on, if it is on
// one; or every address of this host that is on a link with others.
func onLinks(addr netip.Addr) ([]onLink, error) {
	if addr.IsValid() {
		routes, err := netlink.RouteGet(addr.AsSlice())
		if err != nil {
			return nil, err
		}
		if !addr.Is4() || len(routes) == 0 || routes[0].Gw != nil || routes[0].Via != nil {
			return nil, nil
		}
		link, err := netlink.LinkByIndex(routes[0].LinkIndex)
		if err != nil || !asks(link.Attrs()) {
			return nil, err
		}
		return []onLink{{addr, link.Attrs()}}, nil
	}
	links, err := netlink.LinkList()
	if err != nil {
		return nil, err
	}
	var list []onLink
	for _, link := range links {
		if !asks(link.Attrs()) {
			continue
		}
		held, err := netlink.AddrList(link, netlink.FAMILY_V4)
		if err != nil {
			return nil, err
		}
		for _, each := range held {
			if own, ok := netip.AddrFromSlice(each.IP.To4()); ok && len(list) < mostClaims {
				list = append(list, onLink{own, link.Attrs()})
			}
		}
	}
	return list, nil
}

// asks reports whether addresses are asked for on a link at all.
func asks(link *netlink.LinkAttrs) bool {
	return link.RawFlags&unix.IFF_UP != 0 &&
		link.RawFlags&(unix.IFF_NOARP|unix.IFF_LOOPBACK|unix.IFF_POINTOPOINT) == 0 &&
		len(link.HardwareAddr) == 6
}

// A packet of ARP for IPv4 over Ethernet (RFC 826).
const (
	arpSize    = 28
	arpRequest = 1
	arpReply   = 2
)

// probe asks one link for one address, twice, and gives the machines that
// answer, each once.
func probe(ctx context.Context, link *netlink.LinkAttrs, addr netip.Addr) ([]string, error) {
	network := binary.NativeEndian.Uint16([]byte{unix.ETH_P_ARP >> 8, unix.ETH_P_ARP & 0xff})
	fd, err := unix.Socket(unix.AF_PACKET, unix.SOCK_DGRAM|unix.SOCK_CLOEXEC, int(network))
	if err != nil {
		return nil, err
	}
	defer unix.Close(fd)
	if err := unix.Bind(fd, &unix.SockaddrLinklayer{Protocol: network, Ifindex: link.Index}); err != nil {
		return nil, err
	}
	tick := unix.NsecToTimeval(int64(20 * time.Millisecond))
	if err := unix.SetsockoptTimeval(fd, unix.SOL_SOCKET, unix.SO_RCVTIMEO, &tick); err != nil {
		return nil, err
	}
	request := make([]byte, 0, arpSize)
	request = append(request, 0, 1, 8, 0, 6, 4, 0, arpRequest) // Ethernet, IPv4, their lengths
	request = append(request, link.HardwareAddr...)
	request = append(request, 0, 0, 0, 0) // no sender: nobody's table changes
	request = append(request, 0, 0, 0, 0, 0, 0)
	request = append(request, addr.AsSlice()...)
	everybody := &unix.SockaddrLinklayer{
		Protocol: network,
		Ifindex:  link.Index,
		Halen:    6,
		Addr:     [8]byte{0xff, 0xff, 0xff, 0xff, 0xff, 0xff},
	}

	began, asked := time.Now(), 0
	var found []string
	for buffer := make([]byte, 128); ; {
		spent := time.Since(began)
		if spent >= look.Within(ctx, claimTime) || len(found) == mostClaims {
			return found, nil
		}
		if spent >= time.Duration(asked)*claimTime/2 {
			asked++
			if err := unix.Sendto(fd, request, 0, everybody); err != nil {
				return nil, err
			}
		}
		n, _, err := unix.Recvfrom(fd, buffer, 0)
		if errors.Is(err, unix.EAGAIN) || errors.Is(err, unix.EINTR) {
			continue
		}
		if err != nil {
			return nil, err
		}
		if answer := buffer[:n]; n >= arpSize && answer[7] == arpReply && bytes.Equal(answer[14:18], addr.AsSlice()) {
			if mac := net.HardwareAddr(answer[8:14]).String(); !slices.Contains(found, mac) {
				found = append(found, mac)
			}
		}
	}
}
