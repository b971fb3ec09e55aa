package path

import (
	"context"
	"fmt"
	"net"
	"net/netip"
	"path/filepath"
	"slices"
	"strings"
	"sync"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/wire"
)

// clockFiles is where hosts are told which time servers to follow: files of
// chrony, of ntpd and of systemd-timesyncd, as patterns.
var clockFiles = []string{
	"/etc/chrony/chrony.conf",
	"/etc/chrony/sources.d/*.sources",
	"/etc/chrony/conf.d/*.conf",
	"/etc/chrony.conf",
	"/etc/chrony.d/*.conf",
	"/etc/ntpsec/ntp.conf",
	"/etc/ntp.conf",
	"/etc/systemd/timesyncd.conf",
	"/etc/systemd/timesyncd.conf.d/*.conf",
}

// SystemTimeServers is those that a system is set to follow by what is no file; nil where
// all are in files.
var SystemTimeServers func() []string

// Bounds on asking for the time.
const (
	mostClocks = 4
	clockWait  = 1500 * time.Millisecond
)

// Clock asks the time servers that this host is set to follow how far its own
// clock is off. Where none is set, nobody is asked.
func Clock(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	const source = "time servers of this host"
	names := timeServers(clockFiles)
	if SystemTimeServers != nil {
		names = append(names, SystemTimeServers()...)
	}
	if len(names) == 0 {
		emit(env.Seen(order, source, "none is set"))
		return
	}
	found := make([]*fact.ClockSeen, min(len(names), mostClocks))
	var wg sync.WaitGroup
	for i := range found {
		wg.Go(func() { found[i] = askClock(ctx, names[i]) })
	}
	wg.Wait()
	c := fact.Clock{}
	saw := fmt.Sprintf("none of %d answers", len(found))
	for _, each := range found {
		if each == nil {
			continue
		}
		if len(c.List) == 0 {
			saw = fmt.Sprintf("%s is %s ahead of this host", each.Server, time.Duration(each.AheadMS)*time.Millisecond)
		}
		c.List = append(c.List, *each)
	}
	f := env.Seen(order, source, saw)
	f.Clock = &c
	emit(f)
}

// timeServers is the servers that files name, each once.
func timeServers(patterns []string) []string {
	var list []string
	for _, pattern := range patterns {
		files, err := filepath.Glob(pattern)
		if err != nil {
			continue
		}
		for _, each := range files {
			text, err := file.Head(each, file.MostSettings)
			if err != nil {
				continue // of a program that this host does not have, mostly
			}
			for line := range strings.Lines(string(text)) {
				for _, name := range serversIn(line) {
					if !slices.Contains(list, name) {
						list = append(list, name)
					}
				}
			}
		}
	}
	return list
}

// serversIn is the servers that one line names: "server NAME …" or "NTP=NAME …".
func serversIn(line string) []string {
	fields := strings.Fields(strings.Replace(line, "=", " = ", 1))
	switch {
	case len(fields) >= 2 && slices.Contains([]string{"server", "pool", "peer"}, strings.ToLower(fields[0])):
		return fields[1:2]
	case len(fields) >= 3 && fields[0] == "NTP" && fields[1] == "=":
		return fields[2:]
	}
	return nil
}

// askClock asks one server; nil if it does not say.
func askClock(ctx context.Context, name string) *fact.ClockSeen {
	ctx, cancel := context.WithTimeout(ctx, clockWait)
	defer cancel()
	addrs, err := net.DefaultResolver.LookupNetIP(ctx, "ip", name)
	if err != nil || len(addrs) == 0 {
		return nil
	}
	const port = 123
	var d net.Dialer
	conn, err := d.DialContext(ctx, "udp", netip.AddrPortFrom(addrs[0].Unmap(), port).String())
	if err != nil {
		return nil
	}
	defer conn.Close()
	conn.SetDeadline(time.Now().Add(look.Within(ctx, clockWait)))
	began := time.Now()
	r := wire.AskTime(wire.NewConn(conn))
	if r.Date.IsZero() {
		return nil
	}
	took := time.Since(began)
	// The server's word is as old as its way here, about half of the time.
	ahead := r.Date.Sub(began.Add(took / 2))
	return &fact.ClockSeen{Server: name, AheadMS: wire.MS(ahead), WithinMS: wire.MS(took / 2)}
}
