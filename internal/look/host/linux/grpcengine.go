//go:build linux

package linux

import (
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"

	"uakari/internal/foreign"
)

// rpcClient asks an engine by calls of gRPC over its socket. Only calls that read are
// made.
type rpcClient struct {
	transport *http.Transport
	namespace string // of containerd's own calls
}

func newRPCClient(socket string) *rpcClient {
	var only http.Protocols
	only.SetUnencryptedHTTP2(true)
	return &rpcClient{transport: &http.Transport{
		Protocols: &only,
		DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) {
			return (&net.Dialer{}).DialContext(ctx, "unix", socket)
		},
	}}
}

func (c *rpcClient) close() { c.transport.CloseIdleConnections() }

// call makes one call, whose question and answer are one message each (gRPC over HTTP/2).
func (c *rpcClient) call(ctx context.Context, method string, question []byte) (message, error) {
	body := append(binary.BigEndian.AppendUint32([]byte{0}, uint32(len(question))), question...)
	request, err := http.NewRequestWithContext(ctx, http.MethodPost, "http://engine"+method, bytes.NewReader(body))
	if err != nil {
		return nil, err
	}
	request.Header.Set("Content-Type", "application/grpc")
	request.Header.Set("TE", "trailers")
	if c.namespace != "" {
		request.Header.Set("containerd-namespace", c.namespace)
	}
	answer, err := c.transport.RoundTrip(request)
	if err != nil {
		return nil, err
	}
	defer answer.Body.Close()
	data, err := io.ReadAll(io.LimitReader(answer.Body, mostEngine))
	if err != nil {
		return nil, err
	}
	status, text := answer.Trailer.Get("Grpc-Status"), answer.Trailer.Get("Grpc-Message")
	if status == "" { // a call that ends at once has all in its headers
		status, text = answer.Header.Get("Grpc-Status"), answer.Header.Get("Grpc-Message")
	}
	if status != "0" {
		return nil, fmt.Errorf("it answers %s %s to %s", foreign.Clean(status), foreign.Clean(text), method)
	}
	if len(data) < 5 || data[0] != 0 || int(binary.BigEndian.Uint32(data[1:])) != len(data)-5 {
		return nil, fmt.Errorf("its answer to %s is no message", method)
	}
	return parseMessage(data[5:])
}
