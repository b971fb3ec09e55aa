package common

import (
	"context"
	"errors"
	"net/url"
	"os"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/look/clientlib"
)

// Proxy leaves the proxy that programs of this environment use for a scheme,
// if it names one. Accounts in it are left out.
func Proxy(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	script := func(name, place string) {
		f := env.Seen(order, name, "the script "+foreign.Clean(place)+" decides")
		f.Proxy = &fact.ProxySetting{Name: name, Script: foreign.Clean(place)}
		emit(f)
	}
	if env.ProxyScript != "" {
		script("--proxy-script", env.ProxyScript)
		return
	}
	for _, set := range clientlib.Proxies(order.Target.Scheme) {
		f := env.Seen(order, set.At, set.Value)
		f.Proxy = &fact.ProxySetting{Name: set.At, Value: set.Value, By: strings.TrimSuffix(set.Name, " proxy")}
		emit(f)
	}
	for _, name := range []string{order.Target.Scheme + "_proxy", strings.ToUpper(order.Target.Scheme) + "_PROXY",
		"all_proxy", "ALL_PROXY"} {
		if name == "HTTP_PROXY" {
			continue // many programs ignore it, since servers may be made to set it
		}
		text := os.Getenv(name)
		if text == "" {
			continue
		}
		if !strings.Contains(text, "://") {
			text = "http://" + text
		}
		p := fact.ProxySetting{Name: name, NoProxy: os.Getenv("no_proxy")}
		if p.NoProxy == "" {
			p.NoProxy = os.Getenv("NO_PROXY")
		}
		u, err := url.Parse(text)
		if err != nil {
			emit(env.Failed(order, "environment "+name, "could not read the proxy's address", errMistyped, ""))
			return
		}
		u.User = nil
		p.Value = u.String()
		f := env.Seen(order, "environment "+name, p.Value)
		f.Proxy = &p
		emit(f)
		return
	}
	if SystemProxy != nil && ofSystem(env, order, script, emit) {
		return
	}
	if place := desktopScript(); place != "" {
		script("settings of this user's desktop", place)
		return
	}
	f := env.Seen(order, "environment", "no proxy for "+order.Target.Scheme)
	f.Proxy = &fact.ProxySetting{}
	emit(f)
}

// ofSystem leaves the proxy that the system is set to, and says whether there is one.
func ofSystem(env look.Env, order fact.Order, script func(name, place string), emit look.Emit) bool {
	p, err := SystemProxy(order.Target.Scheme)
	if err != nil {
		emit(env.Failed(order, "the system's proxy", "could not read which proxy is set", err, ""))
		return false
	}
	if p.Script != "" {
		script(p.Name, p.Script)
		return true
	}
	if p.Value == "" {
		return false
	}
	u, err := url.Parse("http://" + strings.TrimPrefix(p.Value, "http://"))
	if err != nil || u.Host == "" {
		emit(env.Failed(order, p.Name, "could not read the proxy's address", errMistyped, ""))
		return true
	}
	u.User = nil
	f := env.Seen(order, p.Name, u.String())
	f.Proxy = &fact.ProxySetting{Name: p.Name, Value: u.String(), NoProxy: exceptions(p.Except), System: true}
	emit(f)
	return true
}

// errMistyped stands for what the library says, which would repeat an account.
var errMistyped = errors.New("it is no URL")
