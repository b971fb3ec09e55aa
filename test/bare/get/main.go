// The bare program: one look-up, one connect, one handshake, one GET, and no
// more. Benchmarks compare a trace with it.
//
//	get RESOLVER ROOTS URL
package main

import (
	"context"
	"crypto/tls"
	"crypto/x509"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
)

func main() {
	if err := get(os.Args[1], os.Args[2], os.Args[3]); err != nil {
		fmt.Fprintln(os.Stderr, err)
		os.Exit(1)
	}
}

func get(resolver, roots, url string) error {
	pem, err := os.ReadFile(roots)
	if err != nil {
		return err
	}
	pool := x509.NewCertPool()
	pool.AppendCertsFromPEM(pem)
	r := &net.Resolver{PreferGo: true, Dial: func(ctx context.Context, network, _ string) (net.Conn, error) {
		var d net.Dialer
		return d.DialContext(ctx, network, resolver)
	}}
	client := http.Client{Transport: &http.Transport{
		DialContext:     (&net.Dialer{Resolver: r}).DialContext,
		TLSClientConfig: &tls.Config{RootCAs: pool},
	}}
	response, err := client.Get(url)
	if err != nil {
		return err
	}
	defer response.Body.Close()
	_, err = io.Copy(io.Discard, response.Body)
	return err
}
