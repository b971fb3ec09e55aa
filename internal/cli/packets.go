package cli

import (
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"sync"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/path"
	"uakari/internal/tell"
)

// packetFile is what --packets keeps: the packets of this host's own links while it
// traces, and those that other hosts watched.
type packetFile struct {
	file    string
	capture *path.Capture
	frames  []tell.Frame
	before  []tell.Frame // of the try before, in a watch
	mu      sync.Mutex   // guards ring and frames in a sweep
	ring    []tell.Frame // the newest of all, in a sweep
	follows bool         // the try before was kept as one that failed
}

// mostFrames bounds how many packets a file gets.
const mostFrames = 20_000

// addPackets adds the flag.
func (p *packetFile) addPackets(cmd *cobra.Command, what string) {
	cmd.Flags().StringVar(&p.file, "packets", "",
		"keep "+what+" in this `file`, in the open format pcapng; needs root")
}

// begin watches the links of this host, if that is wanted. What is said is left out
// where it may hold a secret.
func (p *packetFile) begin(ctx context.Context, e fact.Endpoint, env look.Env) error {
	if p.file == "" {
		return nil
	}
	if e.Port == 0 {
		return errors.New("--packets: the endpoint has no port of its own; expected one, as in tcp://ledger:5432")
	}
	secret := env.Secret != "" || env.Identity != "" || env.Whole != "" && env.Whole != env.Path
	capture, err := path.StartCapture(ctx, secret, e.Port)
	if err != nil {
		return err
	}
	p.capture = capture
	return nil
}

// settle is how long packets that were on their way are waited for between tries.
const settle = 20 * time.Millisecond

// take is what was seen here since the last time.
func (p *packetFile) take() (list []tell.Frame) {
	for _, c := range p.capture.Take() {
		list = append(list, tell.Frame{At: c.At, Host: hostname(), Link: c.Link, Out: c.Out, Data: c.Data,
			Length: c.Length})
	}
	return list
}

// tried takes what was seen of one try of a watch: of one that failed, of the one
// before and of the one after it is kept.
func (p *packetFile) tried(failed bool) {
	if p.capture == nil {
		return
	}
	time.Sleep(settle)
	list := p.take()
	switch {
	case len(p.frames) > mostFrames:
	case failed:
		if !p.follows {
			p.frames = append(p.frames, p.before...)
		}
		p.frames = append(p.frames, list...)
	case p.follows:
		p.frames = append(p.frames, list...)
		list = nil // it is kept already
	}
	p.before, p.follows = list, failed
}

// mostPorts bounds how many ports one sweep watches.
const mostPorts = 60

// beginSweep watches the links of this host for the ports of a plan, if that is wanted.
// Headers alone are kept: endpoints may have secrets in them.
func (p *packetFile) beginSweep(ctx context.Context, endpoints []string) error {
	if p.file == "" {
		return nil
	}
	var ports []uint16
	for _, each := range endpoints {
		if e, err := endpoint.Parse(each); err == nil && e.Port > 0 && !slices.Contains(ports, e.Port) {
			ports = append(ports, e.Port)
		}
	}
	if len(ports) == 0 || len(ports) > mostPorts {
		return fmt.Errorf("--packets: the plan has %d ports; expected 1 to %d", len(ports), mostPorts)
	}
	capture, err := path.StartCapture(ctx, true, ports...)
	if err != nil {
		return err
	}
	p.capture = capture
	return nil
}

// swept takes the packets of one trace of a sweep that failed, from those that are kept
// of all: what went to and came from where it tried.
func (p *packetFile) swept(set fact.Set) {
	if p.capture == nil {
		return
	}
	time.Sleep(settle)
	p.mu.Lock()
	defer p.mu.Unlock()
	p.ring = append(p.ring, p.take()...)
	p.ring = p.ring[max(0, len(p.ring)-mostFrames):]
	var tried []netip.AddrPort
	for _, f := range set.Facts {
		if at := netip.AddrPortFrom(f.Order.Target.Addr, f.Order.Target.Port); at.IsValid() &&
			!slices.Contains(tried, at) {
			tried = append(tried, at)
		}
	}
	for i, each := range p.ring {
		if p.ring[i].Data == nil || len(p.frames) >= mostFrames {
			continue
		}
		seen := look.Captured{Data: each.Data}
		if slices.ContainsFunc(tried, func(at netip.AddrPort) bool { return path.About(seen, at) }) {
			p.frames = append(p.frames, each)
			p.ring[i].Data = nil // it is kept once
		}
	}
}

// end writes the file, with what other hosts saw in a run.
func (p *packetFile) end(cmd *cobra.Command, sets ...fact.Set) error {
	if p.capture == nil {
		return nil
	}
	p.capture.Close()
	if len(sets) > 0 {
		p.frames = append(p.frames, p.take()...)
	}
	for _, set := range sets {
		for _, v := range set.Vantages {
			if v.Means != fact.Here {
				p.frames = append(p.frames, framesOf(set, v)...)
			}
		}
	}
	slices.SortStableFunc(p.frames, func(a, b tell.Frame) int { return a.At.Compare(b.At) })
	return writeWhole(cmd, p.file, tell.PacketFile(p.frames[:min(len(p.frames), mostFrames)]))
}

// framesOf is what one host saw of the tries.
func framesOf(set fact.Set, v fact.Vantage) (list []tell.Frame) {
	for _, f := range set.Facts {
		if f.Vantage != v.ID || f.Packets == nil {
			continue
		}
		for _, s := range f.Packets.Segments {
			if len(s.Raw) == 0 {
				continue
			}
			at := f.Packets.Began.Add(time.Duration(s.AtMS * float64(time.Millisecond)))
			list = append(list, tell.Frame{
				At: at, Host: v.Host, Link: s.Link, Out: s.Out, Data: s.Raw, Length: wholeLength(s.Raw),
			})
		}
	}
	return list
}

// wholeLength is how long a packet was, by its header.
func wholeLength(b []byte) int {
	switch {
	case len(b) >= 4 && b[0]>>4 == 4:
		return int(binary.BigEndian.Uint16(b[2:]))
	case len(b) >= 6 && b[0]>>4 == 6:
		return 40 + int(binary.BigEndian.Uint16(b[4:]))
	}
	return len(b)
}
