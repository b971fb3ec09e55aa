//go:build linux

package linux

import (
	"net/netip"
	"slices"

	"github.com/vishvananda/netlink"
	"golang.org/x/sys/unix"

	"uakari/internal/fact"
)

// addressStates names the flags of an address that is not in ordinary use
// (include/uapi/linux/if_addr.h).
var addressStates = []struct {
	flag int
	name string
}{{unix.IFA_F_DADFAILED, "duplicate"}, {unix.IFA_F_TENTATIVE, "tentative"}, {unix.IFA_F_DEPRECATED, "deprecated"}}

// addresses asks the kernel for every address and the state of its link.
func addresses() (held []fact.Address, macs []string, err error) {
	links, err := netlink.LinkList()
	if err != nil {
		return nil, nil, err
	}
	list, err := netlink.AddrList(nil, netlink.FAMILY_ALL)
	if err != nil {
		return nil, nil, err
	}
	byIndex := map[int]*netlink.LinkAttrs{}
	for _, link := range links {
		byIndex[link.Attrs().Index] = link.Attrs()
		if mac := link.Attrs().HardwareAddr.String(); mac != "" && !slices.Contains(macs, mac) {
			macs = append(macs, mac)
		}
	}
	held = []fact.Address{}
	for _, a := range list {
		link := byIndex[a.LinkIndex]
		addr, ok := netip.AddrFromSlice(a.IP)
		if link == nil || !ok {
			continue // the link went between the two questions
		}
		ones, _ := a.Mask.Size()
		each := fact.Address{Prefix: netip.PrefixFrom(addr.Unmap(), ones), Link: link.Name,
			Up: link.RawFlags&unix.IFF_UP != 0 &&
				link.RawFlags&unix.IFF_RUNNING != 0, Local: link.RawFlags&unix.IFF_LOOPBACK != 0}
		for _, s := range addressStates {
			if a.Flags&s.flag != 0 {
				each.State = s.name
				break
			}
		}
		held = append(held, each)
	}
	return held, macs, nil
}
