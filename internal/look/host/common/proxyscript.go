package common

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/proxyscript"
	"uakari/internal/protocol"
)

// Script leaves what a script says of an endpoint that decides over proxies: it is read or
// fetched, straight, and asked within bounds.
func Script(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	t := order.Target
	p := fact.ProxySetting{Name: "the script " + t.Path, Script: t.Path}
	source := "proxy script " + t.Path
	if !slices.Contains(scriptPlaces(env, t.Scheme), t.Path) {
		emit(env.Failed(order, source, "it was not asked",
			errors.New("neither this host's settings nor --proxy-script name it"), ""))
		return
	}
	tell := func(saw string) {
		f := env.Seen(order, source, saw)
		f.Proxy = &p
		emit(f)
	}
	text, err := scriptText(ctx, env, t.Path)
	if err != nil {
		p.Wrong = foreign.Clean(look.Words(err))
		tell("cannot be read: " + p.Wrong)
		return
	}
	w := proxyscript.World{Now: time.Now(), Own: ownAddress(t), Resolve: func(name string) []netip.Addr {
		ctx, cancel := context.WithTimeout(ctx, env.Patience())
		defer cancel()
		list, err := net.DefaultResolver.LookupNetIP(ctx, "ip", name)
		if err != nil {
			return nil
		}
		return list
	}}
	host := strings.TrimSuffix(t.Name, ".")
	a, err := proxyscript.Evaluate(text, askedFor(t, host), host, w)
	p.Said, p.Line = foreign.Clean(a.Text), a.Line
	if err != nil {
		p.Wrong = foreign.Clean(err.Error())
		tell("says nothing of use: " + p.Wrong)
		return
	}
	if !a.Choices[0].Direct {
		p.Value, p.Falls = foreign.Clean(a.Choices[0].Proxy), len(a.Choices) > 1
	}
	saw := "says " + p.Said
	if p.Line > 0 {
		saw = fmt.Sprintf("line %d says %s", p.Line, p.Said)
	}
	tell(saw)
}

// scriptPlaces is the scripts that this host's own settings name, and the one that was given:
// no other file is read and no other place asked, whatever an order names.
func scriptPlaces(env look.Env, scheme string) []string {
	list := []string{foreign.Clean(env.ProxyScript), foreign.Clean(desktopScript())}
	if SystemProxy != nil {
		if p, err := SystemProxy(scheme); err == nil {
			list = append(list, foreign.Clean(p.Script))
		}
	}
	return slices.DeleteFunc(list, func(s string) bool { return s == "" })
}

// askedFor is the URL that browsers ask a script for: of one that is encrypted without the
// path, which is nobody else's to know.
func askedFor(t fact.Target, host string) string {
	u := url.URL{Scheme: t.Scheme, Host: host, Path: "/"}
	if s, known := protocol.Lookup(t.Scheme); !known || s.Port != t.Port {
		u.Host = endpoint.HostPort(host, t.Port)
	}
	return u.String()
}

func scriptText(ctx context.Context, env look.Env, place string) (string, error) {
	u, err := url.Parse(place)
	if err != nil || u.Scheme != "http" && u.Scheme != "https" {
		text, err := file.Head(strings.TrimPrefix(place, "file://"), proxyscript.MostText)
		return string(text), err
	}
	ctx, cancel := context.WithTimeout(ctx, env.Patience())
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, place, nil)
	if err != nil {
		return "", err
	}
	client := http.Client{Transport: &http.Transport{DisableKeepAlives: true}} // without a proxy
	answer, err := client.Do(request)
	if err != nil {
		return "", err
	}
	defer answer.Body.Close()
	if answer.StatusCode != http.StatusOK {
		return "", fmt.Errorf("%s answers %d", place, answer.StatusCode)
	}
	text, err := io.ReadAll(io.LimitReader(answer.Body, proxyscript.MostText+1))
	if err == nil && len(text) == 0 {
		err = errors.New("it is empty")
	}
	return string(text), err
}

// ownAddress is the address that this host would send from. Nothing is sent for it.
func ownAddress(t fact.Target) netip.Addr {
	to := "192.0.2.1"
	if t.Addr.IsValid() {
		to = t.Addr.String()
	}
	conn, err := net.Dial("udp", net.JoinHostPort(to, "9"))
	if err != nil {
		return netip.Addr{}
	}
	defer conn.Close()
	at, err := netip.ParseAddrPort(conn.LocalAddr().String())
	if err != nil {
		return netip.Addr{}
	}
	return at.Addr().Unmap()
}
