package common

import (
	"fmt"
	"net"
	"net/netip"

	"uakari/internal/fact"
)

// Interfaces is every address of this host as the standard library tells them,
// and the hardware addresses of its links.
func Interfaces() (held []fact.Address, macs []string, err error) {
	links, err := net.Interfaces()
	if err != nil {
		return nil, nil, err
	}
	held = []fact.Address{}
	for _, link := range links {
		if mac := link.HardwareAddr.String(); mac != "" {
			macs = append(macs, mac)
		}
		addrs, err := link.Addrs()
		if err != nil {
			return nil, nil, fmt.Errorf("link %s: %w", link.Name, err)
		}
		for _, a := range addrs {
			prefix, err := netip.ParsePrefix(a.String())
			if err != nil {
				continue
			}
			held = append(held, fact.Address{
				Prefix: netip.PrefixFrom(prefix.Addr().Unmap(), prefix.Bits()), Link: link.Name,
				Up:    link.Flags&net.FlagUp != 0 && link.Flags&net.FlagRunning != 0,
				Local: link.Flags&net.FlagLoopback != 0,
			})
		}
	}
	return held, macs, nil
}
