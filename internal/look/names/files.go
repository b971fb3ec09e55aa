package names

import (
	"bufio"
	"fmt"
	"io"
	"net/netip"
	"os"
	"slices"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/look/file"
)

const (
	systemSetup   = "/etc/resolv.conf"
	systemSources = "/etc/nsswitch.conf"
)

// mostFile bounds what is read of a file, in bytes.
const mostFile = 4 << 20

// lines calls do for every line of a file, without comments.
func lines(path, comments string, do func(number int, fields []string)) error {
	f, err := file.Open(path)
	if err != nil {
		return err
	}
	defer f.Close()
	s := bufio.NewScanner(io.LimitReader(f, mostFile))
	s.Buffer(nil, mostFile)
	for n := 1; s.Scan(); n++ {
		text := s.Text()
		if at := strings.IndexAny(text, comments); at >= 0 {
			text = text[:at]
		}
		if fields := strings.Fields(text); len(fields) > 0 {
			do(n, fields)
		}
	}
	if err := s.Err(); err != nil {
		return fmt.Errorf("%s: %w", path, err)
	}
	return nil
}

// ReadHosts is what a hosts file says of one name, whatever the case of its
// letters (hosts(5)). A missing file names nobody.
func ReadHosts(path, name string) (fact.HostsFile, error) {
	entry := fact.HostsFile{Path: path, Name: name}
	name = strings.TrimSuffix(name, ".")
	err := lines(path, "#", func(number int, fields []string) {
		addr, err := netip.ParseAddr(fields[0])
		if err != nil || !slices.ContainsFunc(fields[1:], func(f string) bool { return strings.EqualFold(f, name) }) {
			return
		}
		if entry.Line == 0 {
			entry.Line = number
		}
		entry.Addrs = append(entry.Addrs, addr)
	})
	if os.IsNotExist(err) {
		err = nil
	}
	return entry, err
}

// mostHosts bounds the names that are kept of a hosts file.
const mostHosts = 1000

// allHosts is every name of a hosts file, in its order.
func allHosts(path string) ([]fact.HostsFile, error) {
	var list []fact.HostsFile
	err := lines(path, "#", func(number int, fields []string) {
		addr, err := netip.ParseAddr(fields[0])
		if err != nil {
			return
		}
		for _, name := range fields[1:] {
			if len(list) < mostHosts {
				list = append(list, fact.HostsFile{Path: path, Name: name, Line: number, Addrs: []netip.Addr{addr}})
			}
		}
	})
	if os.IsNotExist(err) {
		err = nil
	}
	return list, err
}

// Defaults and bounds of resolv.conf(5).
const (
	defaultNdots    = 1
	defaultTimeout  = 5 // seconds
	defaultAttempts = 2
	mostServers     = 3
	mostSearch      = 6
)

// ReadSetup reads a resolver configuration. A missing file or one without
// servers means the resolver of this host itself.
func ReadSetup(path string) (fact.ResolverSetup, error) {
	s := fact.ResolverSetup{
		Path:      path,
		Ndots:     defaultNdots,
		TimeoutMS: defaultTimeout * 1000,
		Attempts:  defaultAttempts,
	}
	err := lines(path, "#;", func(_ int, fields []string) {
		switch fields[0] {
		case "nameserver":
			if len(fields) < 2 || len(s.Servers) == mostServers {
				return
			}
			if addr, err := netip.ParseAddr(fields[1]); err == nil {
				s.Servers = append(s.Servers, netip.AddrPortFrom(addr, 53))
			}
		case "search", "domain":
			s.Search = fields[1:min(len(fields), mostSearch+1)]
		case "options":
			for _, option := range fields[1:] {
				readOption(&s, option)
			}
		}
	})
	if os.IsNotExist(err) {
		err = nil
	}
	if path == systemSetup {
		s.Order = sourceOrder(systemSources)
		s.Upstreams = upstreamsOf(s.Servers, upstreamFiles)
	}
	if len(s.Servers) == 0 {
		s.Servers = []netip.AddrPort{netip.MustParseAddrPort("127.0.0.1:53")}
	}
	return s, err
}

// upstreamFiles are where caching resolvers of a host keep the ones that they
// ask themselves, as resolv.conf(5) does.
var upstreamFiles = []string{
	"/run/systemd/resolve/resolv.conf",
	"/run/NetworkManager/no-stub-resolv.conf",
	"/run/dnsmasq/resolv.conf",
}

// upstreamsOf is the resolvers behind one on this host itself; none where the
// host asks others straight away.
func upstreamsOf(servers []netip.AddrPort, files []string) []netip.AddrPort {
	if !slices.ContainsFunc(servers, func(s netip.AddrPort) bool { return s.Addr().IsLoopback() }) {
		return nil
	}
	for _, file := range files {
		var list []netip.AddrPort
		err := lines(file, "#;", func(_ int, fields []string) {
			if fields[0] != "nameserver" || len(fields) < 2 || len(list) == mostServers {
				return
			}
			if addr, err := netip.ParseAddr(fields[1]); err == nil && !addr.IsLoopback() {
				list = append(list, netip.AddrPortFrom(addr, 53))
			}
		})
		if err == nil && len(list) > 0 {
			return list
		}
	}
	return nil
}

// sourceOrder is the sources of host names in their order; nil where the file
// is missing or does not say.
func sourceOrder(path string) []string {
	var order []string
	err := lines(path, "#", func(_ int, fields []string) {
		if fields[0] == "hosts:" {
			order = fields[1:]
		}
	})
	if err != nil {
		return nil
	}
	return order
}

func readOption(s *fact.ResolverSetup, option string) {
	name, text, _ := strings.Cut(option, ":")
	n, err := strconv.Atoi(text)
	if err != nil || n < 0 {
		return
	}
	switch name {
	case "ndots":
		s.Ndots = min(n, 15)
	case "timeout":
		s.TimeoutMS = float64(min(n, 30)) * 1000
	case "attempts":
		s.Attempts = min(n, 5)
	}
}
