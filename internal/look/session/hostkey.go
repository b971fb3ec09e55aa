package session

import (
	"context"
	"errors"
	"net"
	"strings"

	"golang.org/x/crypto/ssh"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look/sshclient"
)

// errSeen ends a key exchange once the host's key was shown: nobody logs in.
var errSeen = errors.New("the host key was seen")

// heard gives back what was read already.
type heard struct {
	net.Conn
	head []byte
}

func (h *heard) Read(b []byte) (int, error) {
	if len(h.head) > 0 {
		n := copy(b, h.head)
		h.head = h.head[n:]
		return n, nil
	}
	return h.Conn.Read(b)
}

// hostKey goes on from the greeting to the key exchange (RFC 4253 section 8),
// and compares the key with this user's known hosts.
func (c *climber) hostKey(_ context.Context, greeting fact.Greeting) {
	t := c.order.Target
	place := endpoint.HostPort(strings.TrimSuffix(t.Name, "."), t.Port)
	known, err := sshclient.KnownHosts(t.Name)
	if err != nil {
		c.emit(
			c.env.Failed(
				c.order,
				"known hosts",
				"could not read the known hosts",
				err,
				"a readable ~/.ssh/known_hosts",
			),
		)
		return
	}
	k := fact.HostKey{Files: known.Files}
	config := &ssh.ClientConfig{
		User:              "uakari",
		HostKeyAlgorithms: preferred(known, place, t),
		HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
			k.Type, k.Fingerprint = key.Type(), ssh.FingerprintSHA256(key)
			k.State, k.Known = known.Compare(place, remote(t), key)
			return errSeen
		},
	}
	_, _, _, err = ssh.NewClientConn(&heard{c.conn, []byte(greeting.Head + "\r\n")}, place, config)
	if k.Type == "" {
		k.State, k.Error = "failed", foreign.Clean(err.Error())
	}
	saw := k.Type + " " + k.Fingerprint + ", " + k.State
	if k.Error != "" {
		saw = k.Error
	}
	f := c.env.Seen(c.order, "host key of "+c.address(), saw)
	f.HostKey = &k
	c.emit(f)
}

func remote(t fact.Target) net.Addr {
	return &net.TCPAddr{IP: t.Addr.AsSlice(), Port: int(t.Port), Zone: t.Addr.Zone()}
}

// preferred is the algorithms of the keys that are known for a host, ahead of
// all others: clients ask for those first.
func preferred(known sshclient.Known, place string, t fact.Target) []string {
	kinds := known.Kinds(place, remote(t))
	if len(kinds) == 0 {
		return nil
	}
	return append(
		kinds,
		ssh.KeyAlgoED25519,
		ssh.KeyAlgoECDSA256,
		ssh.KeyAlgoECDSA384,
		ssh.KeyAlgoECDSA521,
		ssh.KeyAlgoRSASHA512,
		ssh.KeyAlgoRSASHA256,
		ssh.KeyAlgoRSA,
	)
}
