package session

import (
	"context"
	"crypto/ed25519"
	"errors"
	"net"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/wire"
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
	check, files, err := knownHosts()
	if err != nil {
		c.emit(c.env.Failed(c.order, "known hosts", "could not read the known hosts", err, "a readable ~/.ssh/known_hosts"))
		return
	}
	k := fact.HostKey{Files: files}
	config := &ssh.ClientConfig{User: "uakari", HostKeyAlgorithms: preferred(check, place, t), HostKeyCallback: func(_ string, _ net.Addr, key ssh.PublicKey) error {
		k.Type, k.Fingerprint = key.Type(), ssh.FingerprintSHA256(key)
		k.State, k.Known = compareKey(check, place, t, key)
		return errSeen
	}}
	_, _, _, err = ssh.NewClientConn(&heard{c.conn, []byte(greeting.Head + "\r\n")}, place, config)
	if k.Type == "" {
		k.State, k.Error = "failed", wire.Clean(err.Error())
	}
	saw := k.Type + " " + k.Fingerprint + ", " + k.State
	if k.Error != "" {
		saw = k.Error
	}
	f := c.env.Seen(c.order, "host key of "+c.address(), saw)
	f.HostKey = &k
	c.emit(f)
}

// knownHosts reads this user's and the system's known hosts (sshd(8)).
func knownHosts() (ssh.HostKeyCallback, []string, error) {
	candidates := []string{"/etc/ssh/ssh_known_hosts"}
	if home, err := os.UserHomeDir(); err == nil {
		candidates = append(candidates, filepath.Join(home, ".ssh", "known_hosts"), filepath.Join(home, ".ssh", "known_hosts2"))
	}
	files := slices.DeleteFunc(candidates, func(path string) bool {
		_, err := os.Stat(path)
		return errors.Is(err, os.ErrNotExist)
	})
	check, err := knownhosts.New(files...)
	return check, files, err
}

func remote(t fact.Target) net.Addr {
	return &net.TCPAddr{IP: t.Addr.AsSlice(), Port: int(t.Port), Zone: t.Addr.Zone()}
}

// preferred is the algorithms of the keys that are known for a host, ahead of
// all others: clients ask for those first.
func preferred(check ssh.HostKeyCallback, place string, t fact.Target) []string {
	none, err := ssh.NewPublicKey(ed25519.PublicKey(make([]byte, ed25519.PublicKeySize)))
	if err != nil {
		return nil
	}
	var known *knownhosts.KeyError
	if !errors.As(check(place, remote(t), none), &known) || len(known.Want) == 0 {
		return nil
	}
	var list []string
	for _, w := range known.Want {
		kind := w.Key.Type()
		if kind == ssh.KeyAlgoRSA {
			list = append(list, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		}
		list = append(list, kind)
	}
	return append(list, ssh.KeyAlgoED25519, ssh.KeyAlgoECDSA256, ssh.KeyAlgoECDSA384, ssh.KeyAlgoECDSA521, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256, ssh.KeyAlgoRSA)
}

// compareKey says how a key stands to the known ones.
func compareKey(check ssh.HostKeyCallback, place string, t fact.Target, key ssh.PublicKey) (state string, at []string) {
	err := check(place, remote(t), key)
	var known *knownhosts.KeyError
	var revoked *knownhosts.RevokedError
	switch {
	case err == nil:
		return "known", nil
	case errors.As(err, &revoked):
		return "revoked", nil
	case !errors.As(err, &known) || len(known.Want) == 0:
		return "unknown", nil
	}
	state = "other-type"
	for _, w := range known.Want {
		at = append(at, w.String())
		if w.Key.Type() == key.Type() {
			state = "changed"
		}
	}
	return state, at
}
