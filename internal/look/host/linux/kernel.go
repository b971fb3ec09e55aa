//go:build linux

package linux

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// kernelSettings are the settings that decide connections, below /proc/sys.
var kernelSettings = []string{
	"net/ipv4/ip_forward", "net/ipv4/conf/*/forwarding", "net/ipv6/conf/all/forwarding", "net/ipv4/conf/*/rp_filter",
	"net/ipv6/bindv6only",
	"net/ipv6/conf/all/disable_ipv6", "net/core/somaxconn", "net/ipv4/tcp_max_syn_backlog",
	"net/ipv4/tcp_abort_on_overflow",
	"net/ipv4/ip_local_port_range", "net/ipv4/ip_local_reserved_ports", "net/ipv4/icmp_echo_ignore_all",
	"net/ipv4/tcp_syncookies", "net/ipv4/ip_unprivileged_port_start", "net/ipv4/ip_nonlocal_bind",
	"net/netfilter/nf_conntrack_max", "net/netfilter/nf_conntrack_count",
}

// kernelCounters are the counters that tell of turned-away connections, by
// their names in /proc/net/netstat.
var kernelCounters = []string{
	"ListenOverflows",
	"ListenDrops",
	"TCPBacklogDrop",
	"TCPReqQFullDrop",
	"TCPReqQFullDoCookies",
	"IPReversePathFilter",
}

// Kernel leaves the settings and counters that decide connections.
func Kernel(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	k := fact.Kernel{Settings: map[string]string{}, Counters: map[string]uint64{}}
	for _, pattern := range kernelSettings {
		matches, err := filepath.Glob("/proc/sys/" + pattern)
		if err != nil {
			continue // the patterns are this file's own
		}
		for _, path := range matches {
			if text, err := os.ReadFile(path); err == nil {
				k.Settings[strings.TrimPrefix(path, "/proc/sys/")] = strings.Join(strings.Fields(string(text)), " ")
			}
		}
	}
	if text, err := os.ReadFile("/sys/fs/" + fact.PolicyEnforced); err == nil { // else there is no such policy
		k.Settings[fact.PolicyEnforced] = strings.TrimSpace(string(text))
	}
	if text, err := os.ReadFile("/proc/net/netstat"); err == nil {
		readCounters(string(text), k.Counters)
	} else {
		emit(env.Failed(order, "/proc/net/netstat", "could not read the kernel's counters", err, ""))
	}
	f := env.Seen(
		order,
		"kernel settings",
		fmt.Sprintf(
			"%d settings, %d connections dropped by full queues since boot",
			len(k.Settings),
			k.Counters["ListenOverflows"],
		),
	)
	f.Kernel = &k
	emit(f)
}

// readCounters reads pairs of lines: names, then values.
func readCounters(text string, into map[string]uint64) {
	var names []string
	for line := range strings.Lines(text) {
		fields := strings.Fields(line)
		if len(fields) == 0 {
			continue
		}
		if len(names) != len(fields) || names[0] != fields[0] {
			names = fields
			continue
		}
		for i, name := range names {
			for _, want := range kernelCounters {
				if n, err := strconv.ParseUint(fields[i], 10, 64); name == want && err == nil {
					into[name] = n
				}
			}
		}
		names = nil
	}
}
