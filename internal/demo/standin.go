package demo

import (
	"bufio"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/http"
	"net/netip"
	"net/textproto"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"
)

// RunStandIn is the process of one stand-in: it serves as its settings file
// says until its standard input ends.
func RunStandIn(file string, stdin io.Reader, stdout io.Writer) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	var s Stand
	if err := json.Unmarshal(text, &s); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	serve, ok := kinds[s.Kind]
	if !ok {
		return fmt.Errorf(
			"%s: kind %q; expected one of %s",
			file,
			s.Kind,
			strings.Join(slices.Sorted(maps.Keys(kinds)), ", "),
		)
	}
	if err := serve(s); err != nil {
		return err
	}
	fmt.Fprintln(stdout, "ready")
	_, err = io.Copy(io.Discard, stdin)
	return err
}

// kinds is what a stand-in can be. Each begins to serve and returns.
var kinds = map[string]func(Stand) error{
	"https":     secure(page),
	"http":      plain(page),
	"gateway":   plain(pass),
	"hung":      hang,
	"door":      secure(door),
	"open door": secure(door),

	"agent":   send,
	"guarded": plain(guard),

	"database": database, "domain database": database,
}

// secure serves on a listener that encrypts.
func secure(serve func(Stand, net.Listener)) func(Stand) error {
	return func(s Stand) error {
		cert, err := tls.LoadX509KeyPair(s.Cert, s.Key)
		if err != nil {
			return err
		}
		l, err := tls.Listen("tcp", s.Listen, &tls.Config{Certificates: []tls.Certificate{cert}})
		if err != nil {
			return err
		}
		go serve(s, l) // ends with the process
		return nil
	}
}

// send is a client's service: it writes down what it sends.
func send(s Stand) error {
	log, err := os.OpenFile(s.Log, os.O_APPEND|os.O_WRONLY|os.O_CREATE, 0o600)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintf(log, "%s sent 12 readings\n", time.Now().UTC().Format(time.DateTime))
	return errors.Join(err, log.Close())
}

// door asks everybody for an account. It lets them in, or refuses them without
// a reason: that is in its log alone.
func door(s Stand, l net.Listener) {
	answer := func(c net.Conn) {
		defer c.Close()
		c.SetDeadline(time.Now().Add(10 * time.Second))
		request, err := http.ReadRequest(bufio.NewReader(c))
		if err != nil {
			return // a handshake alone, or no request at all
		}
		account, _, asked := request.BasicAuth()
		status, more := "401 Unauthorized", "WWW-Authenticate: Basic realm=\"registry\"\r\n"
		if asked && s.Kind == "open door" {
			status, more = "200 OK", ""
		} else if asked {
			log, err := os.OpenFile(s.Log, os.O_APPEND|os.O_WRONLY|os.O_CREATE, 0o600)
			if err != nil {
				return
			}
			fmt.Fprintf(log, "%s refused %.40s, state code 775\n", time.Now().UTC().Format(time.DateTime), account)
			log.Close()
		}
		fmt.Fprintf(
			c,
			"HTTP/1.1 %s\r\nServer: %s\r\nDate: %s\r\n%sContent-Length: 0\r\nConnection: close\r\n\r\n",
			status,
			s.Program,
			httpNow(),
			more,
		)
	}
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go answer(c)
	}
}

// plain serves on a listener that does not encrypt.
func plain(serve func(Stand, net.Listener)) func(Stand) error {
	return func(s Stand) error {
		l, err := net.Listen("tcp", s.Listen)
		if err != nil {
			return err
		}
		go serve(s, l) // ends with the process
		return nil
	}
}

// pass passes every request on to a backend, and answers for it when it does
// not.
func pass(s Stand, l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			c.SetDeadline(time.Now().Add(10 * time.Second))
			to, err := net.DialTimeout("tcp", s.To, 2*time.Second)
			if err != nil {
				fmt.Fprintf(
					c,
					"HTTP/1.1 502 Bad Gateway\r\nServer: %s\r\nDate: %s\r\nContent-Length: 0\r\nConnection: "+
						"close\r\n\r\n",
					s.Program,
					httpNow(),
				)
				return
			}
			defer to.Close()
			go io.Copy(to, c)
			io.Copy(c, to)
		}()
	}
}

// guard serves those whom its list lets in, and hangs up on everybody else without
// a word. The list is read anew each time: an address or a net a line.
func guard(s Stand, l net.Listener) {
	inner := &guarded{Listener: l, list: s.List}
	page(s, inner)
}

type guarded struct {
	net.Listener
	list string
}

func (g *guarded) Accept() (net.Conn, error) {
	for {
		c, err := g.Listener.Accept()
		if err != nil {
			return nil, err
		}
		from, err := netip.ParseAddrPort(c.RemoteAddr().String())
		if err == nil && g.lets(from.Addr()) {
			return c, nil
		}
		c.Close()
	}
}

func (g *guarded) lets(addr netip.Addr) bool {
	text, err := os.ReadFile(g.list)
	if err != nil {
		return false
	}
	for line := range strings.Lines(string(text)) {
		line = strings.TrimSpace(line)
		if net, err := netip.ParsePrefix(line); err == nil && net.Contains(addr) || line == addr.String() {
			return true
		}
	}
	return false
}

func httpNow() string { return time.Now().UTC().Format("Mon, 02 Jan 2006 15:04:05 GMT") }

// page answers every request on a listener with a small page.
func page(s Stand, l net.Listener) {
	body := s.Program + " of the Várzea Hydrology Office\n"
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			c.SetDeadline(time.Now().Add(10 * time.Second))
			line, err := textproto.NewReader(bufio.NewReader(c)).ReadLine()
			if err != nil {
				return // a handshake alone, or no request at all
			}
			status := "200 OK"
			if !strings.Contains(line, " HTTP/1.") {
				status = "400 Bad Request"
			}
			fmt.Fprintf(c,
				"HTTP/1.1 %s\r\nServer: %s\r\nDate: %s\r\nContent-Length: %d\r\nConnection: close\r\n\r\n%s",
				status, s.Program, httpNow(), len(body), body)
		}()
	}
}

// Far serves the portal and the world's names on one address of this host,
// within this process, until it ends: the far side of a slow link.
func Far(dir, addr string) error {
	a, err := newAuthority()
	if err != nil {
		return err
	}
	at, err := netip.ParseAddr(addr)
	if err != nil {
		return err
	}
	zone["tidebook"] = addr
	if _, err := serveNames(netip.AddrPortFrom(at, resolverAddr.Port())); err != nil {
		return err
	}
	s := web("tidebook", netip.AddrPortFrom(at, 8443).String())
	s.Cert, s.Key = filepath.Join(dir, "tidebook.pem"), filepath.Join(dir, "tidebook.key")
	if err := errors.Join(os.WriteFile(filepath.Join(dir, "authority.pem"), a.rootPEM(), 0o600),
		a.issue(s)); err != nil {
		return err
	}
	return kinds["https"](s)
}
