//go:build windows

// Service is a service of Windows for tests: it listens, answers every
// connection with a small page, and ends with a code if it cannot.
package main

import (
	"errors"
	"flag"
	"fmt"
	"net"
	"os"
	"strings"
	"syscall"
	"time"

	"golang.org/x/sys/windows"
	"golang.org/x/sys/windows/svc"
)

type page struct {
	listen string
	code   uint
	status uint
}

func (p page) Execute(_ []string, orders <-chan svc.ChangeRequest, states chan<- svc.Status) (bool, uint32) {
	states <- svc.Status{State: svc.StartPending}
	if p.code != 0 {
		return false, uint32(p.code)
	}
	l, err := net.Listen("tcp4", p.listen)
	if err != nil {
		var code syscall.Errno
		errors.As(err, &code)
		return false, uint32(code)
	}
	keepAlive(l)
	go p.serve(l)
	states <- svc.Status{State: svc.Running, Accepts: svc.AcceptStop}
	for order := range orders {
		if order.Cmd == svc.Stop || order.Cmd == svc.Shutdown {
			break
		}
		states <- order.CurrentStatus
	}
	return false, 0
}

// keepAlive sets an option without which Wine does not tell whose a listener is.
func keepAlive(l net.Listener) {
	raw, err := l.(*net.TCPListener).SyscallConn()
	if err != nil {
		return
	}
	raw.Control(func(fd uintptr) {
		windows.SetsockoptInt(windows.Handle(fd), windows.SOL_SOCKET, windows.SO_KEEPALIVE, 1)
	})
}

func (p page) serve(l net.Listener) {
	for {
		c, err := l.Accept()
		if err != nil {
			return
		}
		go func() {
			defer c.Close()
			c.SetDeadline(time.Now().Add(5 * time.Second))
			c.Read(make([]byte, 1024))
			fmt.Fprintf(c, "HTTP/1.1 %d Tides\r\nContent-Length: 2\r\nConnection: close\r\n\r\nok", p.status)
		}()
	}
}

func main() {
	var p page
	flag.StringVar(&p.listen, "listen", ":8080", "where it listens")
	flag.UintVar(&p.code, "code", 0, "with which code it ends at once")
	flag.UintVar(&p.status, "status", 200, "with which status it answers")
	flag.String("c", "", "settings, which it does not read")
	alone := flag.Bool("alone", false, "run without the service manager")
	flag.Parse()
	if *alone {
		l, err := net.Listen("tcp4", p.listen)
		if err != nil {
			fmt.Println(err)
			os.Exit(1)
		}
		keepAlive(l)
		p.serve(l)
	}
	if err := svc.Run(strings.TrimSpace("Tidebook"), p); err != nil {
		fmt.Println(err)
		os.Exit(1)
	}
}
