// Package proxyscript evaluates the scripts by which clients are told their proxies (PAC files):
// the function FindProxyForURL, with the helpers that browsers offer it. It runs within bounds of
// time and memory, and reaches nothing but what its caller lends it.
package proxyscript

import (
	"errors"
	"fmt"
	"net/netip"
	"regexp"
	"runtime"
	"strconv"
	"strings"
	"time"

	"github.com/dop251/goja"
)

// Bounds on one script.
const (
	MostText   = 1 << 20 // bytes of a script
	mostTime   = 2 * time.Second
	mostMemory = 64 << 20 // bytes that it may take beyond what there was
	mostDepth  = 500
)

// World is what a script may ask of its host.
type World struct {
	// Resolve gives the addresses of a name, none if it has none.
	Resolve func(name string) []netip.Addr
	// Own is this host's address, as it would be told to a server.
	Own netip.Addr
	Now time.Time
}

// Choice is one way that a script allows, in its order.
type Choice struct {
	Direct bool
	// Proxy is a URL without an account: "http://heron:3128", "socks5://heron:1080".
	Proxy string
}

// Answer is what a script says of one URL.
type Answer struct {
	Text    string // its own word: "PROXY heron:3128; DIRECT"
	Choices []Choice
	Line    int // of the script, that decided; 0 where that could not be told
}

var errBound = errors.New("it took more time or memory than a script may")

// Evaluate asks a script for the proxies of a URL with its host. An error says that the script
// is none, that it fails, or that it answers with something else than proxies.
func Evaluate(text, url, host string, w World) (Answer, error) {
	said, err := run(text, url, host, w, nil)
	if err != nil {
		return Answer{}, err
	}
	a := Answer{Text: said}
	if a.Choices, err = choices(said); err != nil {
		return a, err
	}
	// The same once more, with a mark at each return: it counts only if it says the same.
	line := 0
	if again, err := run(marked(text), url, host, w, &line); err == nil && again == said {
		a.Line = line
	}
	return a, nil
}

func run(text, url, host string, w World, line *int) (string, error) {
	if len(text) > MostText {
		return "", fmt.Errorf("it has %d bytes; a script may have %d", len(text), MostText)
	}
	vm := goja.New()
	vm.SetMaxCallStackSize(mostDepth)
	if err := lend(vm, w, line); err != nil {
		return "", err
	}
	defer bounded(vm)()
	if _, err := vm.RunString(text); err != nil {
		return "", failure(err)
	}
	find, ok := goja.AssertFunction(vm.Get("FindProxyForURL"))
	if !ok {
		if find, ok = goja.AssertFunction(vm.Get("FindProxyForURLEx")); !ok {
			return "", errors.New("it has no function FindProxyForURL")
		}
	}
	value, err := find(goja.Undefined(), vm.ToValue(url), vm.ToValue(host))
	if err != nil {
		return "", failure(err)
	}
	if value == nil || goja.IsNull(value) || goja.IsUndefined(value) {
		return "DIRECT", nil // browsers take nothing for that
	}
	return value.String(), nil
}

// bounded interrupts a script that takes too long or too much; the returned function ends
// that.
func bounded(vm *goja.Runtime) (end func()) {
	done := make(chan struct{})
	var before runtime.MemStats
	runtime.ReadMemStats(&before)
	go func() {
		over := time.After(mostTime)
		tick := time.NewTicker(20 * time.Millisecond)
		defer tick.Stop()
		for {
			select {
			case <-done:
				return
			case <-over:
				vm.Interrupt(errBound)
				return
			case <-tick.C:
				var now runtime.MemStats
				if runtime.ReadMemStats(&now); now.HeapAlloc > before.HeapAlloc+mostMemory {
					vm.Interrupt(errBound)
					return
				}
			}
		}
	}()
	return func() { close(done) }
}

// failure is what a script failed with, in one line.
func failure(err error) error {
	var stopped *goja.InterruptedError
	if errors.As(err, &stopped) {
		return errBound
	}
	text, _, _ := strings.Cut(err.Error(), "\n")
	return errors.New(text)
}

var returns = regexp.MustCompile(`\breturn[ \t]+([^;}\s])`)

// marked is a script in which each return tells its line first.
func marked(text string) string {
	var b strings.Builder
	number := 0
	for line := range strings.Lines(text) {
		number++
		b.WriteString(returns.ReplaceAllString(line, "return uakariLine("+strconv.Itoa(number)+"), $1"))
	}
	return b.String()
}

// schemes is the words of an answer with the kinds of proxies that they mean.
var schemes = map[string]string{
	"PROXY": "http", "HTTP": "http", "HTTPS": "https", "SOCKS": "socks5", "SOCKS4": "socks4", "SOCKS5": "socks5",
}

// choices reads an answer: ways behind semicolons.
func choices(said string) ([]Choice, error) {
	var list []Choice
	for part := range strings.SplitSeq(said, ";") {
		fields := strings.Fields(part)
		if len(fields) == 0 {
			continue
		}
		word := strings.ToUpper(fields[0])
		switch scheme := schemes[word]; {
		case word == "DIRECT" && len(fields) == 1:
			list = append(list, Choice{Direct: true})
		case scheme != "" && len(fields) == 2 && !strings.ContainsAny(fields[1], "/@"):
			list = append(list, Choice{Proxy: scheme + "://" + fields[1]})
		default:
			return list, fmt.Errorf("it answers %q; expected DIRECT, or PROXY, HTTPS or SOCKS with HOST:PORT", said)
		}
	}
	if len(list) == 0 {
		list = []Choice{{Direct: true}}
	}
	return list, nil
}
