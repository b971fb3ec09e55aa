package vantage

import (
	"context"
	"errors"
	"fmt"
	"net"
	"os/user"
	"slices"
	"strings"

	"golang.org/x/crypto/ssh"

	"uakari/internal/look/file"
	"uakari/internal/look/sshclient"
)

// place is where to log in, as the user's SSH settings have it.
type place struct {
	alias            string // as typed
	addr, host, user string
	identities       []string
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
	p.alias = alias
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
	if jumps := get("proxyjump"); jumps != "" && jumps != "none" {
		p.jumps = strings.Split(jumps, ",")
	}
	return p
}

// config is how to log in at a place: keys of the agent and of files, and host
// keys by the user's known hosts. The secret and the key that were given are
// for the last place alone: hosts on the way there never see them. Keys of the
// agent sign until done is called.
func (s *SSH) config(ctx context.Context, p place, last bool) (config *ssh.ClientConfig, done func(), err error) {
	identity, secret := "", ""
	if last {
		identity, secret = s.login.Identity, s.login.Secret
	}
	known, err := sshclient.KnownHosts(p.alias)
	done = func() {}
	if err != nil {
		return nil, done, err
	}
	var signers []ssh.Signer
	files := p.identities
	if identity != "" {
		files = []string{identity}
	}
	for _, path := range files {
		signer, err := readKey(ctx, path)
		if err != nil && identity != "" {
			return nil, done, err
		}
		if err == nil {
			signers = append(signers, signer)
		}
	}
	if identity == "" {
		// The agent's keys come first; one that cannot be reached has none.
		if held, release, err := sshclient.AgentKeys(ctx); err == nil {
			signers, done = append(held, signers...), release
		}
	}
	methods := []ssh.AuthMethod{}
	if len(signers) > 0 {
		methods = append(methods, ssh.PublicKeys(signers...))
	}
	if secret != "" {
		methods = append(methods, ssh.Password(secret)) // once; the library would try other ways with it too
	}
	if len(methods) == 0 {
		if !last {
			return nil, done, errors.New(
				"nothing to log in with on the way: neither an agent nor a readable key file; name one for this " +
					"host in the SSH settings (IdentityFile)",
			)
		}
		return nil, done, errors.New(
			"nothing to log in with: neither an agent nor a readable key file; name one with --identity, or give " +
				"--secret",
		)
	}
	kinds := slices.DeleteFunc(
		known.Kinds(p.addr, &net.TCPAddr{}),
		func(kind string) bool { return kind == ssh.KeyAlgoRSA },
	)
	return &ssh.ClientConfig{
		User:              p.user,
		Auth:              methods,
		HostKeyCallback:   known.Check,
		HostKeyAlgorithms: kinds,
	}, done, nil
}

func readKey(ctx context.Context, path string) (ssh.Signer, error) {
	text, err := file.Typed(ctx, path, file.MostSettings)
	if err != nil {
		return nil, err
	}
	signer, err := ssh.ParsePrivateKey(text)
	var locked *ssh.PassphraseMissingError
	if errors.As(err, &locked) {
		return nil, fmt.Errorf("%s is locked by a passphrase; load it into an agent", path)
	}
	if err != nil {
		return nil, fmt.Errorf("%s: %w", path, err)
	}
	return signer, nil
}
