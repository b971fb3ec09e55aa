package vantage

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"slices"
	"time"

	"golang.org/x/crypto/ssh"

	"uakari/internal/fact"
)

// An order to a host that attends a broker is signed, is for one host, lasts a
// while, and is used once. The broker, and whoever else is on it, can neither
// make one nor send one again.

// OrderFormat names the format of orders.
const OrderFormat = "uakari.order/1"

// orderLife is how long an order lasts. It is judged by the clock of the host that
// it is for: one that is off by more takes none, and says so.
const orderLife = time.Minute

// brokerOrder is what is signed.
type brokerOrder struct {
	Format string      `json:"format"`
	To     string      `json:"to"`
	Number string      `json:"number"` // used once
	Until  time.Time   `json:"until"`
	Host   string      `json:"host,omitempty"` // the one host, of all of the name, that may do it
	Run    string      `json:"run"`            // whose connections are counted together
	Hello  hello       `json:"hello"`          // how to look
	Order  *fact.Order `json:"order,omitempty"`
}

// signed is an order with its signature: RFC 8709 section 6, over the format's name, a
// line's end, and the order as it is sent.
type signed struct {
	Order     []byte `json:"order"`
	Signature []byte `json:"signature"`
}

func toSign(order []byte) []byte { return slices.Concat([]byte(OrderFormat+"\n"), order) }

// sign signs an order.
func sign(o brokerOrder, key ssh.Signer) ([]byte, error) {
	text, err := json.Marshal(o)
	if err != nil {
		return nil, err
	}
	signature, err := key.Sign(rand.Reader, toSign(text))
	if err != nil {
		return nil, err
	}
	return json.Marshal(signed{text, ssh.Marshal(signature)})
}

// opened is an order that one of the keys signed, and that key.
func opened(message []byte, keys []ssh.PublicKey) (o brokerOrder, by ssh.PublicKey, err error) {
	var s signed
	if err := json.Unmarshal(message, &s); err != nil {
		return o, nil, errors.New("it is no order")
	}
	var signature ssh.Signature
	if err := ssh.Unmarshal(s.Signature, &signature); err != nil {
		return o, nil, errors.New("it is not signed")
	}
	for _, key := range keys {
		if key.Verify(toSign(s.Order), &signature) == nil {
			by = key
		}
	}
	if by == nil {
		var of struct{ Number string } // so that the refusal can say of which order it is
		if json.Unmarshal(s.Order, &of) == nil {
			o.Number = of.Number
		}
		return o, nil, errors.New("none of the keys that this host takes orders from signed it")
	}
	if err := json.Unmarshal(s.Order, &o); err != nil || o.Format != OrderFormat {
		return o, by, fmt.Errorf("it is not what this program understands (%s)", OrderFormat)
	}
	return o, by, nil
}

// used remembers the numbers of orders for as long as they last.
type used map[string]time.Time

// check finds what is wrong with an order that is well signed, and remembers its
// number.
func (u used) check(o brokerOrder, name string, now time.Time) error {
	for number, until := range u {
		if now.After(until) {
			delete(u, number)
		}
	}
	_, again := u[o.Number]
	clock := now.UTC().Format(time.RFC3339)
	switch left := o.Until.Sub(now); {
	case o.To != name:
		return fmt.Errorf("it is for %q", o.To)
	case left <= 0:
		return fmt.Errorf("its time was over %s ago, by this host's clock (%s)", (-left).Round(time.Second), clock)
	case left > 2*orderLife:
		return fmt.Errorf("it lasts for %s, by this host's clock (%s)", left.Round(time.Second), clock)
	case o.Number == "" || again:
		return errors.New("its number was used before")
	case o.Hello.Version != talkVersion:
		return fmt.Errorf("it is of another version (%d, here %d)", o.Hello.Version, talkVersion)
	}
	u[o.Number] = o.Until
	return nil
}

// attendName is what hosts may be called on a broker: the token of a subject.
var attendName = regexp.MustCompile(`^[A-Za-z0-9_-]+(\.[A-Za-z0-9_-]+)*$`)

// subjectOf is where orders for a host go.
func subjectOf(name string) (string, error) {
	if len(name) > 200 || !attendName.MatchString(name) {
		return "", fmt.Errorf("%q cannot be a host's name on a broker; expected letters, digits, -, _ and dots", name)
	}
	return "uakari.orders." + name, nil
}

// OrderKeys reads keys that orders are taken from, one a line as SSH writes public
// keys. Where names the file in errors.
func OrderKeys(where string, text []byte) ([]ssh.PublicKey, error) {
	var keys []ssh.PublicKey
	for n, line := range bytes.Split(text, []byte("\n")) {
		if line = bytes.TrimSpace(line); len(line) == 0 || line[0] == '#' {
			continue
		}
		key, _, _, _, err := ssh.ParseAuthorizedKey(line)
		if err != nil || key.Type() != ssh.KeyAlgoED25519 {
			return nil, fmt.Errorf("%s:%d:1: expected a public key as SSH writes it: ssh-ed25519 AAAA…", where, n+1)
		}
		keys = append(keys, key)
	}
	if len(keys) == 0 {
		return nil, fmt.Errorf("%s:1:1: no key in it; expected one: ssh-ed25519 AAAA…", where)
	}
	return keys, nil
}

// OrderKey reads the private key that signs orders.
func OrderKey(where string, text []byte) (ssh.Signer, error) {
	key, err := ssh.ParsePrivateKey(text)
	var locked *ssh.PassphraseMissingError
	switch {
	case errors.As(err, &locked):
		return nil, fmt.Errorf("%s is locked by a passphrase; expected a key for orders alone, without one", where)
	case err != nil || key.PublicKey().Type() != ssh.KeyAlgoED25519:
		return nil, fmt.Errorf("%s: expected a private key, as ssh-keygen -t ed25519 makes it", where)
	}
	return key, nil
}
