package sshclient

import (
	"crypto/ed25519"
	"errors"
	"fmt"
	"net"
	"os"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/knownhosts"
)

// Known is the host keys that this user knows, of the files that the settings
// name for a host (sshd(8), "SSH_KNOWN_HOSTS FILE FORMAT").
type Known struct {
	Files []string // that were read
	alias string   // the name that the host's keys stand under, if not its own (ssh_config(5), HostKeyAlias)
	check ssh.HostKeyCallback
}

// KnownHosts reads them. Files that are not there say nothing.
func KnownHosts(host string) (Known, error) {
	s := For(host)
	files := s.All("userknownhostsfile")
	if len(files) == 0 {
		files = []string{"~/.ssh/known_hosts", "~/.ssh/known_hosts2"}
	}
	global := s.All("globalknownhostsfile")
	if len(global) == 0 {
		global = []string{"/etc/ssh/ssh_known_hosts", "/etc/ssh/ssh_known_hosts2"}
	}
	k := Known{alias: s.First("hostkeyalias")}
	for _, file := range append(slices.Clone(files), global...) {
		path := Home(file)
		if info, err := os.Stat(path); err == nil && info.Mode().IsRegular() {
			k.Files = append(k.Files, path)
		}
	}
	var err error
	k.check, err = knownhosts.New(k.Files...)
	return k, err
}

// asked is the place by which a key is looked for.
func (k Known) asked(place string) string {
	if _, port, err := net.SplitHostPort(place); err == nil && k.alias != "" {
		return net.JoinHostPort(k.alias, port)
	}
	return place
}

// Compare says how the key that a host shows stands to the known ones: "known",
// "unknown", "changed", "other-type" or "revoked", and where other keys of the
// host stand.
func (k Known) Compare(place string, remote net.Addr, key ssh.PublicKey) (state string, at []string) {
	err := k.check(k.asked(place), remote, key)
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

// Check is an error for every host key that is not known, which says what to
// compare.
func (k Known) Check(place string, remote net.Addr, key ssh.PublicKey) error {
	shown := fmt.Sprintf("%s %s", key.Type(), ssh.FingerprintSHA256(key))
	switch state, at := k.Compare(place, remote, key); state {
	case "known":
		return nil
	case "unknown":
		return fmt.Errorf(
			"the host key of %s is not known; compare %s with what the host's keeper says, then log in once by ssh",
			place,
			shown,
		)
	case "revoked":
		return fmt.Errorf("the host key of %s, %s, is revoked", place, shown)
	default:
		first, _, _ := strings.Cut(at[0], ": ")
		return fmt.Errorf(
			"the host key of %s has changed: it shows %s, and %s has another; compare it with what the host's "+
				"keeper says before anything else",
			place,
			shown,
			first,
		)
	}
}

// Kinds is the algorithms of the keys that are known of a host: what is found
// when it is shown a key that nobody has. A server shows one key of several
// kinds, and clients ask for those that they know.
func (k Known) Kinds(place string, remote net.Addr) []string {
	none, err := ssh.NewPublicKey(ed25519.PublicKey(make([]byte, ed25519.PublicKeySize)))
	if err != nil {
		return nil
	}
	var known *knownhosts.KeyError
	if !errors.As(k.check(k.asked(place), remote, none), &known) {
		return nil
	}
	var kinds []string
	for _, w := range known.Want {
		if kind := w.Key.Type(); kind == ssh.KeyAlgoRSA {
			kinds = append(kinds, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256, kind)
		} else {
			kinds = append(kinds, kind)
		}
	}
	return kinds
}
