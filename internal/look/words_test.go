package look

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"net/url"
	"os"
	"syscall"
	"testing"
)

// TestWords is errors of libraries in the words of the trade.
func TestWords(t *testing.T) {
	addr := &net.TCPAddr{IP: net.IPv4(10, 20, 0, 14), Port: 443}
	refused := &net.OpError{
		Op: "dial", Net: "tcp", Addr: addr, Err: os.NewSyscallError("connect", syscall.ECONNREFUSED),
	}
	for want, err := range map[string]error{
		"connection refused (10.20.0.14:443)": &url.Error{Op: "Get", URL: "https://x/", Err: refused},
		"no answer in time":                   fmt.Errorf("asked: %w", context.DeadlineExceeded),
		"no answer in time (10.20.0.14:443)":  &net.OpError{Op: "read", Addr: addr, Err: os.ErrDeadlineExceeded},
		"gate.varzea.example does not resolve": &net.OpError{Op: "dial",
			Err: &net.DNSError{Name: "gate.varzea.example", IsNotFound: true}},
		"gate.varzea.example does not resolve: the resolver cannot be asked": &net.DNSError{
			Name: "gate.varzea.example", Err: "read udp [::1]:1->[::1]:53: connection refused"},
		"its certificate is not valid for tidebook": x509.HostnameError{Certificate: &x509.Certificate{},
			Host: "tidebook"},
		"the issuer of its certificate is not trusted": x509.UnknownAuthorityError{},
		"the connection was closed":                    fmt.Errorf("read: %w", io.EOF),
		"line 3 is no line":                            errors.New("line 3 is no line"),
	} {
		if got := Words(err); got != want {
			t.Errorf("%v: %q, want %q", err, got, want)
		}
	}
}
