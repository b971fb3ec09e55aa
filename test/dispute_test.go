package test

import (
	"encoding/json"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/vishvananda/netlink"

	"uakari/internal/filter"
)

// kept is a case on which kernel and evaluator once disagreed, as small as it
// could be made.
type kept struct {
	Why     string            `json:"why"`
	Loaders map[string]string `json:"loaders"` // part to the program that loads its text
	Texts   map[string]string `json:"texts"`
	Proto   uint8             `json:"proto"`
	From    netip.AddrPort    `json:"from"`
	To      netip.AddrPort    `json:"to"`
}

func (k kept) trial() *trial {
	p := filter.Packet{Proto: k.Proto, From: k.From.Addr(), FromPort: k.From.Port(), To: k.To.Addr(),
		ToPort: k.To.Port()}
	switch k.Proto {
	case filter.TCP:
		p.Flags = filter.SYN
	case filter.ICMP, filter.ICMPv6:
		p.ICMPType = filter.Echo(p.Six())
	}
	return &trial{packet: p, fd: -1}
}

// judge loads a case's tables and compares what the kernel does with what is
// foretold. It reports false if the tables cannot be loaded.
func (a *arena) judge(k kept) (want, saw string, trip filter.Trip, ok bool) {
	defer a.clear(map[string]bool{"older iptables": true})
	for part, text := range k.Texts {
		if err := a.feed(part, text, strings.Fields(k.Loaders[part])...); err != nil {
			return "", "", trip, false
		}
	}
	hops := []filter.Hop{
		{Host: a.look("client")},
		{Host: a.look("router"), In: "c", Out: "s"},
		{Host: a.look("server"), In: "eth0"},
	}
	for _, part := range parts {
		a.within(part, func() { netlink.ConntrackTableFlush(netlink.ConntrackTable) })
	}
	t := k.trial()
	t.packet.FromPort = a.port()
	a.run([]*trial{t}, 300*time.Millisecond)
	trip = filter.Travel(t.packet, hops)
	want, _ = foretell(trip, t.packet)
	return want, t.saw, trip, true
}

// shrink makes a dispute as small as it can: lines are taken away as long as
// the two still disagree.
func (a *arena) shrink(k kept) kept {
	for changed := true; changed; {
		changed = false
		for part := range k.Texts {
			lines := strings.SplitAfter(k.Texts[part], "\n")
			for i := len(lines) - 1; i >= 0; i-- {
				fewer := k
				fewer.Texts = map[string]string{}
				for p, text := range k.Texts {
					fewer.Texts[p] = text
				}
				fewer.Texts[part] = strings.Join(slices.Delete(slices.Clone(lines), i, i+1), "")
				if want, saw, _, ok := a.judge(fewer); ok && want != "unknown" && !agrees(want, saw) {
					k, lines, changed = fewer, slices.Delete(lines, i, i+1), true
				}
			}
		}
	}
	return k
}

// keep shrinks a dispute and writes it where the next test run finds it.
func (a *arena) keep(d dispute) string {
	p := d.trial.packet
	k := a.shrink(kept{Why: fmt.Sprintf("found by seed %d", d.seed), Loaders: d.loaders, Texts: d.texts,
		Proto: p.Proto,
		From:  netip.AddrPortFrom(p.From, p.FromPort), To: netip.AddrPortFrom(p.To, p.ToPort)})
	text, err := json.MarshalIndent(k, "", "  ")
	if err != nil {
		return err.Error()
	}
	path := filepath.Join("testdata", "disputes", fmt.Sprintf("seed-%d.json", d.seed))
	if err := os.WriteFile(path, append(text, '\n'), 0o644); err != nil {
		return err.Error()
	}
	return path + ":\n" + string(text)
}

// TestDisputes judges every case again on which kernel and evaluator once
// disagreed.
func TestDisputes(t *testing.T) {
	files, err := filepath.Glob("testdata/disputes/*.json")
	if err != nil || len(files) == 0 {
		t.Fatalf("no cases: %v", err)
	}
	needsVariants(t)
	a := newArena(t)
	for _, file := range files {
		text, err := os.ReadFile(file)
		if err != nil {
			t.Fatal(err)
		}
		var k kept
		if err := json.Unmarshal(text, &k); err != nil {
			t.Fatalf("%s: %v", file, err)
		}
		want, saw, trip, ok := a.judge(k)
		if !ok || want == "unknown" || !agrees(want, saw) {
			t.Errorf("%s (%s): loaded %v, foretold %s, the kernel says %s\n%s", file, k.Why, ok, want, saw,
				tripText(trip))
		}
	}
}
