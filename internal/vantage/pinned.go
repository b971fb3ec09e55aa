package vantage

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/owned"
)

// PinnedLogin is the one login that orders may ask a host for: it was named when the
// host began to attend, and no order names another.
type PinnedLogin struct {
	Endpoint fact.Endpoint
	Account  string
	Env      look.Env // with the secret; of this host's own settings alone
}

// fits finds what of an order is not the login that was pinned.
func (p *PinnedLogin) fits(t fact.Target) error {
	e := p.Endpoint
	switch {
	case t.Name != e.Host || t.Port != e.Port || t.Scheme != e.Scheme || t.Security != e.Security:
		return fmt.Errorf("logins are tried from here at %s alone (uakari attend --allow-login)", e.Input)
	case t.Account != p.Account:
		return errors.New("that account is not tried from here (uakari attend --allow-login ENDPOINT --user NAME)")
	}
	return nil
}

// gave reports whether this host's own look-up gives an address for the endpoint: an
// order says where, and could say where somebody waits for the secret.
func (p *PinnedLogin) gave(ctx context.Context, addr netip.Addr) bool {
	if typed, err := netip.ParseAddr(p.Endpoint.Host); err == nil {
		return typed == addr
	}
	var mu sync.Mutex // guards found
	found := false
	order := fact.Order{Look: fact.LookNames, Target: fact.Target{Name: p.Endpoint.Host}}
	NewHere(fact.Vantage{}, p.Env).Look(ctx, order, func(f fact.Fact) {
		mu.Lock()
		defer mu.Unlock()
		found = found || f.Answer != nil && slices.Contains(f.Answer.Addrs, addr) ||
			f.HostsFile != nil && slices.Contains(f.HostsFile.Addrs, addr) ||
			f.System != nil && slices.Contains(f.System.Addrs, addr)
	})
	return found
}

// ledger is what a host that attends must not forget when it is started again: the
// numbers of orders, for as long as they last, and when the account was tried.
type ledger struct {
	path string // "": it is kept in memory alone
	file *os.File
	lock *os.File // held while this process attends under the name
}

// entry is a line of a ledger.
type entry struct {
	Number string    `json:"number,omitempty"`
	Until  time.Time `json:"until,omitzero"`
	Tried  time.Time `json:"tried,omitzero"`
}

// mostLedger bounds what is read of a ledger, in bytes.
const mostLedger = 16 << 20

// openLedger reads what a folder remembers of a name, and goes on from there.
func openLedger(folder, name string, now time.Time) (*ledger, used, time.Time, error) {
	numbers, tried := used{}, time.Time{}
	if folder == "" {
		return &ledger{}, numbers, tried, nil
	}
	if err := owned.Folder(folder); err != nil {
		return nil, nil, tried, err
	}
	path := filepath.Join(folder, "attend-"+name+".jsonl")
	lock, err := owned.Lock(path + ".lock")
	if errors.Is(err, owned.ErrLocked) {
		return nil, nil, tried, fmt.Errorf("%s is attended for by another process of this host already; expected "+
			"another --name", name)
	} else if err != nil {
		return nil, nil, tried, err
	}
	l := &ledger{path: path, lock: lock}
	numbers, tried, err = l.read(now)
	if err != nil {
		l.close()
		return nil, nil, tried, err
	}
	return l, numbers, tried, nil
}

// read is what it remembers, and writes what still counts again, so that its file stays small.
func (l *ledger) read(now time.Time) (numbers used, tried time.Time, err error) {
	numbers = used{}
	kept, err := os.Open(l.path)
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return nil, tried, err
	}
	if err == nil {
		lines := bufio.NewScanner(io.LimitReader(kept, mostLedger))
		for lines.Scan() {
			var e entry
			if json.Unmarshal(lines.Bytes(), &e) != nil {
				continue // the last line of a host that was ended in the middle of it
			}
			if e.Number != "" && e.Until.After(now) {
				numbers[e.Number] = e.Until
			}
			if e.Tried.After(tried) {
				tried = e.Tried
			}
		}
		if err := errors.Join(lines.Err(), kept.Close()); err != nil {
			return nil, tried, fmt.Errorf("%s: %w", l.path, err)
		}
	}
	var text []byte
	for number, until := range numbers {
		line, err := json.Marshal(entry{Number: number, Until: until})
		if err != nil {
			return nil, tried, err
		}
		text = append(append(text, line...), '\n')
	}
	if !tried.IsZero() {
		line, err := json.Marshal(entry{Tried: tried})
		if err != nil {
			return nil, tried, err
		}
		text = append(append(text, line...), '\n')
	}
	if _, err := owned.Write(l.path, text); err != nil {
		return nil, tried, err
	}
	l.file, err = owned.Append(l.path)
	return numbers, tried, err
}

// add remembers something; sure is that it must be on the disk before anything is done.
func (l *ledger) add(e entry, sure bool) error {
	if l.file == nil {
		return nil
	}
	line, err := json.Marshal(e)
	if err != nil {
		return err
	}
	if _, err := l.file.Write(append(line, '\n')); err != nil {
		return fmt.Errorf("it cannot be remembered, and is not done: %w", err)
	}
	if sure {
		return l.file.Sync()
	}
	return nil
}

func (l *ledger) close() error {
	var err error
	for _, f := range []*os.File{l.file, l.lock} {
		if f != nil {
			err = errors.Join(err, f.Close())
		}
	}
	return err
}
