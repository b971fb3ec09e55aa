package names

import (
	"cmp"
	"errors"
	"net"
	"net/netip"
	"slices"
	"strings"
	"unsafe"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/registry"

	"uakari/internal/fact"
)

// parameters is where the suffixes of the whole host are.
const parameters = `SYSTEM\CurrentControlSet\Services\Tcpip\Parameters`

// ownSetup is the name servers of the adapters that are up, those of the lowest
// metric first, as the system asks them (GetAdaptersAddresses), and the suffixes
// that it tries.
func ownSetup() (fact.ResolverSetup, error) {
	s := fact.ResolverSetup{
		Path:      "the adapters",
		Ndots:     defaultNdots,
		TimeoutMS: defaultTimeout * 1000,
		Attempts:  defaultAttempts,
	}
	adapters, err := adapters()
	if err != nil {
		return s, err
	}
	var suffixes []string
	for _, a := range adapters {
		for server := a.FirstDnsServerAddress; server != nil; server = server.Next {
			addr, ok := netip.AddrFromSlice(server.Address.IP())
			// Three site-local addresses stand where nobody set any (RFC 3879).
			if addr = addr.Unmap(); !ok || netip.MustParsePrefix("fec0::/10").Contains(addr) ||
				len(s.Servers) == mostServers {
				continue
			}
			if at := netip.AddrPortFrom(addr, 53); !slices.Contains(s.Servers, at) {
				s.Servers = append(s.Servers, at)
			}
		}
		if suffix := windows.UTF16PtrToString(a.DnsSuffix); suffix != "" {
			suffixes = append(suffixes, suffix)
		}
	}
	s.Search = searchList(suffixes)
	if len(s.Servers) == 0 {
		return s, errors.New("no adapter that is up has a name server")
	}
	return s, nil
}

// adapters is the adapters that are up, but for the loopback, in the order of
// their metrics.
func adapters() ([]*windows.IpAdapterAddresses, error) {
	const flags = windows.GAA_FLAG_SKIP_UNICAST | windows.GAA_FLAG_SKIP_ANYCAST | windows.GAA_FLAG_SKIP_MULTICAST
	size := uint32(32 << 10)
	for range 4 {
		buffer := make([]byte, size)
		first := (*windows.IpAdapterAddresses)(unsafe.Pointer(&buffer[0]))
		err := windows.GetAdaptersAddresses(windows.AF_UNSPEC, flags, 0, first, &size)
		if errors.Is(err, windows.ERROR_BUFFER_OVERFLOW) {
			continue
		}
		if err != nil {
			return nil, err
		}
		var list []*windows.IpAdapterAddresses
		for a := first; a != nil; a = a.Next {
			if a.OperStatus == windows.IfOperStatusUp && a.IfType != windows.IF_TYPE_SOFTWARE_LOOPBACK {
				list = append(list, a)
			}
		}
		slices.SortStableFunc(
			list,
			func(a, b *windows.IpAdapterAddresses) int { return cmp.Compare(a.Ipv4Metric, b.Ipv4Metric) },
		)
		return list, nil
	}
	return nil, errors.New("the list of adapters grows faster than it is read")
}

// searchList is the suffixes that are tried: those that are set or, where none
// are, the host's own domain and those of the adapters.
func searchList(suffixes []string) []string {
	key, err := registry.OpenKey(registry.LOCAL_MACHINE, parameters, registry.QUERY_VALUE)
	if err == nil {
		defer key.Close()
		if set, _, err := key.GetStringValue("SearchList"); err == nil && set != "" {
			return splitList(set)
		}
		if domain, _, err := key.GetStringValue("Domain"); err == nil && domain != "" {
			suffixes = append([]string{domain}, suffixes...)
		}
	}
	return slices.Compact(suffixes[:min(len(suffixes), mostSearch)])
}

func splitList(text string) []string {
	list := strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' })
	return list[:min(len(list), mostSearch)]
}

// unreachable is how the system says that a resolver's host cannot be asked.
var unreachable = []error{
	windows.WSAECONNREFUSED, windows.WSAECONNRESET, windows.WSAENETUNREACH, windows.WSAEHOSTUNREACH,
	windows.WSAEACCES, windows.WSAEADDRNOTAVAIL, windows.WSAEINVAL, net.ErrClosed,
}
