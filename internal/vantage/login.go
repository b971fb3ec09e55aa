package vantage

import (
	"crypto/ed25519"
	"errors"
	"fmt"
	"net"
	"os"
	"os/user"
	"strings"

	"golang.org/x/crypto/ssh"
	"golang.org/x/crypto/ssh/agent"
	"golang.org/x/crypto/ssh/knownhosts"

	"uakari/internal/look/sshclient"
)

// place is where to log in, as the user's SSH settings have it.
type place struct {
	addr, host, user string
	identities       []string
	knownHosts       []string
	jumps            []string
}

// resolveLogin reads the user's SSH settings for a login as typed.
func resolveLogin(to string) place {
	p := place{host: to}
	if who, host, ok := strings.Cut(to, "@"); ok {
		p.user, p.host = who, host
	}
	alias, port := p.host, ""
	if h, pt, err := net.SplitHostPort(p.host); err == nil {
		alias, port = h, pt
	}
	settings := sshclient.For(alias)
	get := settings.First
	p.host = alias
	if name := get("hostname"); name != "" {
		p.host = strings.ReplaceAll(name, "%h", alias)
	}
	if port == "" {
		port = get("port")
	}
	if port == "" {
		port = "22"
	}
	if p.user == "" {
		p.user = get("user")
	}
	if p.user == "" {
		if u, err := user.Current(); err == nil {
			p.user = u.Username
		}
	}
	p.addr = net.JoinHostPort(p.host, port)
	for _, file := range settings.All("identityfile") {
		p.identities = append(p.identities, sshclient.Home(file))
	}
	for _, name := range []string{"id_ed25519", "id_ecdsa", "id_rsa"} {
		p.identities = append(p.identities, sshclient.Home("~/.ssh/"+name))
	}
	for _, file := range settings.All("userknownhostsfile") {
		p.knownHosts = append(p.knownHosts, sshclient.Home(file))
	}
	p.knownHosts = append(p.knownHosts, sshclient.Home("~/.ssh/known_hosts"), "/etc/ssh/ssh_known_hosts")
	if jumps := get("proxyjump"); jumps != "" && jumps != "none" {
		p.jumps = strings.Split(jumps, ",")
	}
	return p
}

// config is how to log in at a place: keys of the agent and of files, and host
// keys by the user's known hosts.
func (s *SSH) config(p place) (*ssh.ClientConfig, error) {
	check, algorithms, err := hostKeys(p)
	if err != nil {
		return nil, err
	}
	var signers []ssh.Signer
	files := p.identities
	if s.login.Identity != "" {
		files = []string{s.login.Identity}
	}
	for _, file := range files {
		signer, err := readKey(file)
		if err != nil && s.login.Identity != "" {
			return nil, err
		}
		if err == nil {
			signers = append(signers, signer)
		}
	}
	if socket := os.Getenv("SSH_AUTH_SOCK"); socket != "" && s.login.Identity == "" {
		// The agent's keys come first; one that cannot be reached has none.
		if conn, err := net.Dial("unix", socket); err == nil {
			if held, err := agent.NewClient(conn).Signers(); err == nil {
				signers = append(held, signers...)
			}
		}
	}
	methods := []ssh.AuthMethod{}
	if len(signers) > 0 {
		methods = append(methods, ssh.PublicKeys(signers...))
	}
	if s.login.Secret != "" {
		methods = append(methods, ssh.Password(s.login.Secret)) // once; the library would try other ways with it too
	}
	if len(methods) == 0 {
		return nil, errors.New("nothing to log in with: neither an agent nor a readable key file; name one with --identity, or give --secret")
	}
	return &ssh.ClientConfig{User: p.user, Auth: methods, HostKeyCallback: check, HostKeyAlgorithms: algorithms}, nil
}

func readKey(file string) (ssh.Signer, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey(text)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		return nil, fmt.Errorf("%s is locked by a passphrase; load it into an agent", file)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", file, err)
	}
	return signer, nil
}

// hostKeys checks host keys against the known hosts. What is not known is an
// error that says what to compare.
//
// A server shows one key of several kinds; it is asked for the kinds that are
// known of it.
func hostKeys(p place) (ssh.HostKeyCallback, []string, error) {
	var files []string
	for _, file := range p.knownHosts {
		if _, err := os.Stat(file); err == nil {
			files = append(files, file)
		}
	}
	check, err := knownhosts.New(files...)
	if err != nil {
		return nil, nil, err
	}
	return func(host string, remote net.Addr, key ssh.PublicKey) error {
		err := check(host, remote, key)
		var bad *knownhosts.KeyError
		if !errors.As(err, &bad) {
			return err
		}
		shown := fmt.Sprintf("%s %s", key.Type(), ssh.FingerprintSHA256(key))
		if len(bad.Want) == 0 {
			return fmt.Errorf("the host key of %s is not known; compare %s with what the host's keeper says, then log in once by ssh", host, shown)
		}
		return fmt.Errorf("the host key of %s has changed: it shows %s, and %s line %d has another; compare it with what the host's keeper says before anything else",
			host, shown, bad.Want[0].Filename, bad.Want[0].Line)
	}, knownKinds(check, p.addr), nil
}

// knownKinds is the kinds of host key that are known of an address: what the
// known hosts say they want when they are shown a key that nobody has.
func knownKinds(check ssh.HostKeyCallback, addr string) []string {
	stranger, _, err := ed25519.GenerateKey(nil)
	if err != nil {
		return nil
	}
	key, err := ssh.NewPublicKey(stranger)
	if err != nil {
		return nil
	}
	var bad *knownhosts.KeyError
	if !errors.As(check(addr, &net.TCPAddr{}, key), &bad) {
		return nil
	}
	var kinds []string
	for _, known := range bad.Want {
		if kind := known.Key.Type(); kind == ssh.KeyAlgoRSA {
			kinds = append(kinds, ssh.KeyAlgoRSASHA512, ssh.KeyAlgoRSASHA256)
		} else {
			kinds = append(kinds, kind)
		}
	}
	return kinds
}
