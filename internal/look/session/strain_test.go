package session

import (
	"bufio"
	"context"
	"fmt"
	"net"
	"net/http"
	"net/http/httptest"
	"net/netip"
	"strings"
	"sync/atomic"
	"testing"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look"
)

func targetOf(t *testing.T, url, path string) fact.Target {
	t.Helper()
	at := netip.MustParseAddrPort(strings.TrimPrefix(url, "http://"))
	return fact.Target{
		Name:     "tidebook.varzea.example",
		Addr:     at.Addr(),
		Port:     at.Port(),
		Scheme:   "http",
		Security: fact.Plain,
		Path:     path,
	}
}

func one(
	t *testing.T,
	take func(context.Context, look.Env, fact.Order, look.Emit),
	env look.Env,
	target fact.Target,
) fact.Fact {
	t.Helper()
	var last fact.Fact
	take(context.Background(), env, fact.Order{Target: target}, func(f fact.Fact) { last = f })
	return last
}

// TestLoad asks side by side: a server that bears two at once, and one that
// bears all.
func TestLoad(t *testing.T) {
	var now, asked atomic.Int32
	served := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Add(1)
		defer now.Add(-1)
		if now.Add(1) > 2 && r.URL.Path == "/narrow" {
			w.WriteHeader(503)
		}
		if r.Host != fmt.Sprintf(
			"tidebook.varzea.example:%s",
			r.Context().Value(http.LocalAddrContextKey).(net.Addr).String()[len("127.0.0.1:"):],
		) {
			w.WriteHeader(500) // asked by another name
		}
		time.Sleep(10 * time.Millisecond)
	}))
	defer served.Close()
	for _, c := range []struct {
		path  string
		width int
		fails bool
	}{{"/narrow", 1, false}, {"/narrow", 8, true}, {"/wide", 8, false}} {
		target := targetOf(t, served.URL, c.path)
		target.Width = c.width
		l := one(t, Load, look.Env{Each: 300 * time.Millisecond}, target).Load
		if l == nil || l.Width != c.width || l.Asked < 5 || (l.Failed > 0) != c.fails || l.MedianMS < 9 ||
			l.Late95MS < l.MedianMS ||
			l.MostMS < l.Late95MS {
			t.Errorf("%s, %d wide: %+v", c.path, c.width, l)
		}
	}
	if asked.Load() > 3*mostRequests {
		t.Errorf("%d requests", asked.Load())
	}
	release := make(chan struct{})
	hung := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) { <-release }))
	defer hung.Close()
	defer close(release)
	stuck := targetOf(t, hung.URL, "/")
	stuck.Width = 3
	if l := one(t, Load, look.Env{Each: 200 * time.Millisecond}, stuck).Load; l.Asked != 3 || l.Failed != 3 ||
		l.Unfinished != 3 ||
		!strings.HasPrefix(l.Why, "no answer in 2.") {
		t.Errorf("never answered: %+v", l)
	}
	gone := targetOf(t, served.URL, "/")
	gone.Port, gone.Width = 1, 1
	if l := one(t, Load, look.Env{Each: 200 * time.Millisecond}, gone).Load; l.Failed == 0 || l.Why == "" {
		t.Errorf("nobody there: %+v", l)
	}
}

// TestThrough asks proxies for a tunnel.
func TestThrough(t *testing.T) {
	var asked atomic.Value
	proxy := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		asked.Store(r.Method + " " + r.Host)
		if strings.HasPrefix(r.Host, "shut") {
			w.WriteHeader(403)
		}
	}))
	defer proxy.Close()
	card := &fact.Card{Proxy: proxy.URL}
	open := one(t, Through, look.Env{Card: card}, fact.Target{Name: "tidebook.varzea.example", Port: 443}).Through
	if open == nil || !open.Open || asked.Load() != "CONNECT tidebook.varzea.example:443" {
		t.Errorf("%+v, asked %v", open, asked.Load())
	}
	if shut := one(t, Through, look.Env{Card: card}, fact.Target{Name: "shut.varzea.example",
		Port: 443}).Through; shut == nil ||
		shut.Open ||
		shut.Status != 403 {
		t.Errorf("%+v", shut)
	}
	for _, bad := range []string{"heron", "http://"} {
		if f := one(t, Through, look.Env{Card: &fact.Card{Proxy: bad}, Wait: time.Second},
			fact.Target{Name: "x", Port: 1}); f.Failed == nil {
			t.Errorf("%s: %+v", bad, f.Through)
		}
	}
	if gone := one(t, Through, look.Env{Wait: time.Second}, fact.Target{Name: "x", Port: 1,
		Path: "http://127.0.0.1:1"}).Through; gone == nil ||
		gone.Open ||
		gone.Status != 0 ||
		gone.Error == "" {
		t.Errorf("%+v", gone)
	}
}

// TestIdle uses a connection again after a pause.
func TestIdle(t *testing.T) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		t.Fatal(err)
	}
	defer l.Close()
	go func() { // answers the first question of each connection, and then never again
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			go func() {
				r := bufio.NewReader(c)
				for line := ""; line != "\r\n"; {
					if line, err = r.ReadString('\n'); err != nil {
						return
					}
				}
				fmt.Fprint(c, "HTTP/1.1 200 OK\r\nContent-Length: 0\r\n\r\n")
				time.Sleep(300 * time.Millisecond)
				c.(*net.TCPConn).SetLinger(0)
				c.Close()
			}()
		}
	}()
	cut := targetOf(t, "http://"+l.Addr().String(), "/")
	cut.IdleS = 1
	if i := one(t, Idle, look.Env{}, cut).Idle; i == nil || i.Ending != fact.ResetMid {
		t.Errorf("cut: %+v", i)
	}
	served := httptest.NewServer(http.HandlerFunc(func(http.ResponseWriter, *http.Request) {}))
	defer served.Close()
	good := targetOf(t, served.URL, "/")
	good.IdleS = 1
	if i := one(t, Idle, look.Env{}, good).Idle; i == nil || i.Ending != fact.Done || i.WaitMS != 1000 {
		t.Errorf("good: %+v", i)
	}
	good.Port = 1
	if f := one(t, Idle, look.Env{Wait: time.Second}, good); f.Failed == nil {
		t.Errorf("nobody there: %+v", f)
	}
}
