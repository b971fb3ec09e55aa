package wire

import (
	"bytes"
	"encoding/binary"
	"errors"
	"io"
	"strings"

	"golang.org/x/net/http2"
	"golang.org/x/net/http2/hpack"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// States of a service, as the health service of gRPC tells them (its "Health
// Checking Protocol"), and the status of a call that a server does not know.
const (
	grpcServing       = 1
	grpcUnknown       = "5"
	grpcUnimplemented = "12"
	grpcUnauthentic   = "16"
)

var healthStates = map[byte]string{0: "unknown", 2: "not serving", 3: "unknown service"}

// askHTTP2 opens a session (RFC 9113) and asks the health service of gRPC for
// the service that the endpoint names behind its host, or for all. A server
// that has no such service is well.
func askHTTP2(c *Conn, q Question) fact.Reply {
	service, _, _ := strings.Cut(strings.Trim(q.Path, "/"), "?")
	service = service[:min(len(service), 120)]
	return c.ask("http2", "its health", string(healthCall(q, service)), func(r *fact.Reply) error {
		head, err := c.r.Peek(9)
		if len(head) < 9 || head[3] != byte(http2.FrameSettings) || head[0] != 0 {
			return errors.Join(err, c.stranger(r))
		}
		return c.health(r)
	})
}

// healthCall is the opening of a connection and one call on it.
func healthCall(q Question, service string) []byte {
	scheme := "http"
	if q.Secured {
		scheme = "https"
	}
	var head, all bytes.Buffer
	fields := hpack.NewEncoder(&head)
	for _, f := range [][2]string{
		{":method", "POST"}, {":scheme", scheme}, {":path", "/grpc.health.v1.Health/Check"}, {":authority", q.Host},
		{"content-type", "application/grpc"}, {"te", "trailers"}, {"user-agent", "uakari"},
	} {
		fields.WriteField(hpack.HeaderField{Name: f[0], Value: f[1]}) // into a buffer: it cannot fail
	}
	question := []byte{}
	if service != "" { // field 1, a string
		question = append([]byte{0x0a, byte(len(service))}, service...)
	}
	message := append(binary.BigEndian.AppendUint32([]byte{0}, uint32(len(question))), question...)
	all.WriteString(http2.ClientPreface)
	framer := http2.NewFramer(&all, nil)
	errs := errors.Join(framer.WriteSettings(),
		framer.WriteHeaders(http2.HeadersFrameParam{StreamID: 1, BlockFragment: head.Bytes(), EndHeaders: true}),
		framer.WriteData(1, true, message))
	if errs != nil {
		panic(errs) // frames that are too large to write; none is
	}
	return all.Bytes()
}

// health reads the answer to a call.
func (c *Conn) health(r *fact.Reply) error {
	framer := http2.NewFramer(c, io.LimitReader(c.r, mostReply))
	framer.SetMaxReadFrameSize(mostReply)
	framer.ReadMetaHeaders = hpack.NewDecoder(4096, nil)
	var data []byte
	for range 50 {
		f, err := framer.ReadFrame()
		if err != nil {
			return err
		}
		switch f := f.(type) {
		case *http2.SettingsFrame:
			if !f.IsAck() {
				if err := framer.WriteSettingsAck(); err != nil {
					return err
				}
			}
		case *http2.GoAwayFrame:
			r.Code, r.Text = f.ErrCode.String(), "it ends the connection"
			return nil
		case *http2.RSTStreamFrame:
			r.Code, r.Text = f.ErrCode.String(), "it ends the call"
			return nil
		case *http2.DataFrame:
			data = append(data, f.Data()...)
			if f.StreamEnded() {
				return nil
			}
		case *http2.MetaHeadersFrame:
			if done := c.grpcStatus(r, f, data); done {
				return nil
			}
		}
	}
	return errTooLong
}

// grpcStatus reads headers or trailers; it is done with those that say how the
// call ended.
func (c *Conn) grpcStatus(r *fact.Reply, f *http2.MetaHeadersFrame, data []byte) bool {
	values := map[string]string{}
	for _, field := range f.Fields {
		values[field.Name] = foreign.Clean(field.Value)
	}
	if s := values[":status"]; s != "" && s != "200" {
		r.Code, r.Text = s, "no gRPC is served here"
		return true
	}
	status, said := values["grpc-status"]
	if !said {
		return f.StreamEnded()
	}
	switch status {
	case "0":
		// A message: one byte, its length, then field 1, a number.
		if len(data) >= 7 && data[5] == 0x08 && data[6] != grpcServing {
			r.Code, r.Text = "health", healthStates[data[6]]
		}
	case grpcUnimplemented:
		r.Text = "it has no health service"
	case grpcUnauthentic, "7":
		r.Refused = true
	case grpcUnknown:
		r.Code, r.Text = "grpc-status "+status, "it knows no such service"
	default:
		r.Code, r.Text = "grpc-status "+status, values["grpc-message"]
	}
	return true
}
