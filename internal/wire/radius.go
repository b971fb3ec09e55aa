package wire

import (
	"bytes"
	"crypto/hmac"
	"crypto/md5"
	"crypto/rand"
	"encoding/binary"
	"errors"
	"fmt"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// Codes of packets of RADIUS (RFC 2865 section 3, RFC 5997 section 3).
const (
	radiusRequest   = 1
	radiusAccept    = 2
	radiusReject    = 3
	radiusChallenge = 11
	radiusStatus    = 12
)

// Attributes (RFC 2865 section 5, RFC 2869 section 5.14).
const (
	radiusUser     = 1
	radiusPassword = 2
	radiusReply    = 18
	radiusNAS      = 32
	radiusSigned   = 80
)

// Sizes (RFC 2865 section 3 and 5.2).
const (
	radiusHead     = 20
	radiusMost     = 4096
	radiusBlock    = 16
	radiusLongest  = 128 // of a secret of an account
	radiusValue    = 253 // of one attribute
	radiusIDOffset = 1
)

var (
	errNotRADIUS = errors.New("not an answer of RADIUS")
	errNotSigned = errors.New("the answer was not made with this shared secret")
)

// radiusPacket is one packet on its way, with its authenticator.
type radiusPacket struct {
	code, id      byte
	authenticator [radiusBlock]byte
	attributes    []byte
}

func newRADIUS(code byte) radiusPacket {
	p := radiusPacket{code: code}
	rand.Read(p.authenticator[:])
	p.id = p.authenticator[0]
	return p
}

func (p *radiusPacket) add(kind byte, value []byte) {
	value = value[:min(len(value), radiusValue)]
	p.attributes = append(append(p.attributes, kind, byte(len(value)+2)), value...)
}

// signed is the packet with the attribute by which a server knows who made it, over the
// whole of it with that attribute empty.
func (p radiusPacket) signed(shared string) []byte {
	at := radiusHead + len(p.attributes) + 2
	p.add(radiusSigned, make([]byte, md5.Size))
	packet := []byte{p.code, p.id}
	packet = binary.BigEndian.AppendUint16(packet, uint16(radiusHead+len(p.attributes)))
	packet = append(append(packet, p.authenticator[:]...), p.attributes...)
	mac := hmac.New(md5.New, []byte(shared))
	mac.Write(packet)
	copy(packet[at:], mac.Sum(nil))
	return packet
}

// hidden is a secret of an account as it goes over the wire (RFC 2865 section 5.2).
func (p radiusPacket) hidden(secret, shared string) []byte {
	padded := make([]byte, max(radiusBlock, (len(secret)+radiusBlock-1)/radiusBlock*radiusBlock))
	copy(padded, secret)
	before := p.authenticator[:]
	for i := 0; i < len(padded); i += radiusBlock {
		key := md5.Sum(append([]byte(shared), before...))
		for j := range radiusBlock {
			padded[i+j] ^= key[j]
		}
		before = padded[i : i+radiusBlock]
	}
	return padded
}

// answer reads the answer to a packet: the next datagram that is one, and was made by
// whoever knows the shared secret (RFC 2865 section 3, "Response Authenticator").
func (p radiusPacket) answer(c *Conn, shared string) (code byte, attributes []byte, err error) {
	answer := make([]byte, radiusMost)
	n, err := c.Read(answer)
	if err != nil {
		return 0, nil, err
	}
	if n < radiusHead || answer[radiusIDOffset] != p.id {
		return 0, nil, errNotRADIUS
	}
	length := int(binary.BigEndian.Uint16(answer[2:]))
	if length < radiusHead || length > n {
		return 0, nil, errNotRADIUS
	}
	answer = answer[:length]
	proof := md5.New()
	proof.Write(answer[:4])
	proof.Write(p.authenticator[:])
	proof.Write(answer[radiusHead:])
	proof.Write([]byte(shared))
	if !bytes.Equal(proof.Sum(nil), answer[4:radiusHead]) {
		return answer[0], nil, errNotSigned
	}
	return answer[0], answer[radiusHead:], nil
}

// radiusWords is what an answer says to people.
func radiusWords(attributes []byte) string {
	var words []string
	for len(attributes) >= 2 {
		size := int(attributes[1])
		if size < 2 || size > len(attributes) {
			break
		}
		if attributes[0] == radiusReply {
			words = append(words, string(attributes[2:size]))
		}
		attributes = attributes[size:]
	}
	return foreign.Clean(strings.Join(words, " "))
}

// askRADIUS asks whether the server is there, which it answers to those whose secret it
// shares (RFC 5997).
func askRADIUS(c *Conn, q Question) fact.Reply {
	p := newRADIUS(radiusStatus)
	p.add(radiusNAS, []byte("uakari"))
	return c.ask("radius", "the status", string(p.signed(q.Shared)), func(r *fact.Reply) error {
		code, attributes, err := p.answer(c, q.Shared)
		switch {
		case errors.Is(err, errNotSigned):
			r.Code, r.Text = "secret", err.Error()
		case err != nil:
			return err
		case code != radiusAccept:
			r.Code, r.Text = fmt.Sprint(code), radiusWords(attributes)
		}
		return nil
	})
}

// loginRADIUS asks once whether an account may come in (RFC 2865 section 4.1). Its secret
// goes hidden by the one that is shared.
func loginRADIUS(c *Conn, with Credentials) (fact.Login, error) {
	l := fact.Login{Account: with.Account, Mechanism: "PAP"}
	if len(with.Secret) > radiusLongest || len(with.Account) > radiusValue {
		return l, fmt.Errorf("an account of at most %d and a secret of at most %d bytes can be asked about", radiusValue,
			radiusLongest)
	}
	p := newRADIUS(radiusRequest)
	p.add(radiusUser, []byte(with.Account))
	p.add(radiusPassword, p.hidden(with.Secret, with.Shared))
	p.add(radiusNAS, []byte("uakari"))
	with.presenting()
	if _, err := c.Write(p.signed(with.Shared)); err != nil {
		return l, err
	}
	code, attributes, err := p.answer(c, with.Shared)
	if err != nil {
		return l, err
	}
	l.Text = radiusWords(attributes)
	switch code {
	case radiusAccept:
		l.Outcome = fact.LoginAccepted
	case radiusReject:
		l.Outcome, l.Code = fact.LoginRefused, "reject"
	case radiusChallenge:
		l.Outcome, l.Code = fact.LoginMore, "second-factor"
	default:
		return l, errNotRADIUS
	}
	return l, nil
}
