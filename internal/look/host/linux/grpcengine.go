//go:build linux

package linux

import (
	"bytes"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"

	"google.golang.org/protobuf/encoding/protowire"

	"uakari/internal/plain"
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
		return nil, fmt.Errorf("it answers %s %s to %s", plain.Clean(status), plain.Clean(text), method)
	}
	if len(data) < 5 || data[0] != 0 || int(binary.BigEndian.Uint32(data[1:])) != len(data)-5 {
		return nil, fmt.Errorf("its answer to %s is no message", method)
	}
	return parseMessage(data[5:])
}

// message is the fields of one message of Protocol Buffers, by their numbers, in the order
// in which they came.
type message map[protowire.Number][]field

// field is one value: a number, or bytes.
type field struct {
	number uint64
	bytes  []byte
}

var errMessage = errors.New("a message that cannot be read")

func parseMessage(b []byte) (message, error) {
	m := message{}
	for len(b) > 0 {
		number, kind, n := protowire.ConsumeTag(b)
		if n < 0 {
			return nil, errMessage
		}
		b = b[n:]
		var f field
		switch kind {
		case protowire.VarintType:
			f.number, n = protowire.ConsumeVarint(b)
		case protowire.BytesType:
			f.bytes, n = protowire.ConsumeBytes(b)
		default:
			n = protowire.ConsumeFieldValue(number, kind, b)
		}
		if n < 0 {
			return nil, errMessage
		}
		m[number] = append(m[number], f)
		b = b[n:]
	}
	return m, nil
}

// text, count and list are a field's last value as text or as a number, and all of them.
func (m message) text(number protowire.Number) string {
	if list := m[number]; len(list) > 0 {
		return plain.Clean(string(list[len(list)-1].bytes))
	}
	return ""
}

func (m message) count(number protowire.Number) int64 {
	if list := m[number]; len(list) > 0 {
		return int64(list[len(list)-1].number)
	}
	return 0
}

// in is the message that a field is; an empty one if it is none.
func (m message) in(number protowire.Number) message {
	if all := m.all(number); len(all) > 0 {
		return all[len(all)-1]
	}
	return message{}
}

// all is every message of a field that is given more than once.
func (m message) all(number protowire.Number) []message {
	var list []message
	for _, f := range m[number] {
		if each, err := parseMessage(f.bytes); err == nil {
			list = append(list, each)
		}
	}
	return list
}

// asking is a message of one text, in a field.
func asking(number protowire.Number, text string) []byte {
	return protowire.AppendString(protowire.AppendTag(nil, number, protowire.BytesType), text)
}
