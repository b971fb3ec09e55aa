package look

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"syscall"
)

// refusals is what the kernel says of a connection, in words.
var refusals = []struct {
	is   error
	says string
}{
	{syscall.ECONNREFUSED, "connection refused"}, {syscall.ECONNRESET, "connection reset"},
	{syscall.EHOSTUNREACH, "host unreachable"}, {syscall.ENETUNREACH, "no route to the network"},
	{syscall.EACCES, "not permitted here"}, {syscall.EPERM, "not permitted here"},
	{syscall.EADDRNOTAVAIL, "no local port or address is left"},
	{io.ErrUnexpectedEOF, "the connection was closed in the middle"}, {io.EOF, "the connection was closed"},
}

// Words is an error of a connection or a name, as an administrator would say it; of
// other errors, their own words.
func Words(err error) string {
	var name *net.DNSError
	var host x509.HostnameError
	var issuer x509.UnknownAuthorityError
	var invalid x509.CertificateInvalidError
	var op *net.OpError
	var timeout net.Error
	switch {
	case errors.As(err, &name) && name.IsNotFound:
		return fmt.Sprintf("%s does not resolve", name.Name)
	case errors.As(err, &name) && name.IsTimeout:
		return fmt.Sprintf("%s does not resolve: no answer from the resolver", name.Name)
	case errors.As(err, &name):
		return fmt.Sprintf("%s does not resolve: the resolver cannot be asked", name.Name)
	case errors.As(err, &host):
		return fmt.Sprintf("its certificate is not valid for %s", host.Host)
	case errors.As(err, &issuer):
		return "the issuer of its certificate is not trusted"
	case errors.As(err, &invalid) && invalid.Reason == x509.Expired:
		return "its certificate is expired, or not valid yet"
	}
	at := ""
	if errors.As(err, &op) && op.Addr != nil {
		at = " (" + op.Addr.String() + ")"
	}
	if errors.Is(err, context.DeadlineExceeded) || errors.Is(err, os.ErrDeadlineExceeded) ||
		errors.As(err, &timeout) && timeout.Timeout() {
		return "no answer in time" + at
	}
	if errors.As(err, &op) || errors.Is(err, io.EOF) || errors.Is(err, io.ErrUnexpectedEOF) {
		for _, r := range refusals {
			if errors.Is(err, r.is) {
				return r.says + at
			}
		}
	}
	return err.Error()
}
