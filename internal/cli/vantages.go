package cli

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"net"
	"os"
	"slices"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/trace"
	"uakari/internal/vantage"
)

// vantages is every host to look from: here, those of records, those over
// SSH, which are ordered the first looks for an endpoint as they are reached.
// The caller closes what is returned beside them.
func (s *seeing) vantages(
	ctx context.Context,
	env look.Env,
	first []fact.Order,
) (at []trace.Vantage, done func(), err error) {
	var far []farHost
	var broker brokerRun
	done = func() {
		for _, f := range far {
			f.Close()
		}
		broker.close()
	}
	client := false
	// A secret belongs to the account that is tried, if there is one.
	secret, err := s.readSecret(ctx, len(s.at) > 0 && s.user == "")
	if err != nil {
		return nil, done, err
	}
	for i, text := range s.records {
		role, path, err := roleOf("--record", text)
		if err != nil {
			return nil, done, err
		}
		record, err := s.readRecord(ctx, path)
		if err != nil {
			return nil, done, err
		}
		client = client || role == fact.Client
		at = append(at, vantage.NewCarried(fmt.Sprintf("r%d", i+1), role, record))
	}
	inside := map[fact.Role][]string{}
	for _, text := range s.in {
		if !strings.Contains(text, "=") {
			text = string(fact.Client) + "=" + text
		}
		role, place, err := roleOf("--in", text)
		if err != nil {
			return nil, done, err
		}
		inside[role] = append(inside[role], place)
	}
	for i, text := range s.at {
		role, login, err := roleOf("--at", text)
		if err != nil {
			return nil, done, err
		}
		within := ""
		if places := inside[role]; len(places) > 0 {
			within, inside[role] = places[0], places[1:]
		}
		info := fact.Vantage{ID: fmt.Sprintf("s%d", i+1), Role: role}
		began := time.Now()
		soon, cancel := context.WithTimeout(ctx, s.deadline/reachShare)
		v, err := s.reach(soon, &broker, vantage.Login{
			To:       login,
			Identity: s.identity,
			Secret:   secret,
			Lend:     s.lend,
			AsRoot:   s.asRoot,
			Wait:     s.wait,
			In:       within,
		}, info, env, first)
		var slow net.Error
		late := ctx.Err() == nil && (soon.Err() != nil || errors.As(err, &slow) && slow.Timeout())
		cancel()
		client = client || role == fact.Client
		if err != nil && late {
			// What the others see is worth having without it.
			info.Host, info.Means = hostOfLogin(login), fact.SSH
			at = append(at, vantage.NewMissing(info, "no answer in "+time.Since(began).Round(time.Second).String()))
			continue
		}
		if err != nil {
			return nil, done, err
		}
		far = append(far, v)
		at = append(at, v)
	}
	for _, role := range slices.Sorted(maps.Keys(inside)) {
		for _, place := range inside[role] {
			v, err := vantage.Within(
				ctx,
				place,
				fact.Vantage{ID: fmt.Sprintf("n%d", len(far)+1), Role: role, Means: fact.Inside},
				env,
				first,
			)
			if err != nil {
				return nil, done, err
			}
			far = append(far, v)
			client = client || role == fact.Client
			at = append(at, v)
		}
	}
	at = append(here(env, !client), at...)
	secrets := foreign.NewSecrets(append(secretsIn(env), secret)...)
	for i, v := range at {
		at[i] = vantage.Concealed(v, secrets)
	}
	return at, done, nil
}

// reachShare is the part of the deadline within which a host must be reached: the
// others are checked in the rest.
const reachShare = 3

// hostOfLogin is the host of USER@HOST[:PORT].
func hostOfLogin(login string) string {
	_, host, ok := strings.Cut(login, "@")
	if !ok {
		host = login
	}
	return host
}

// secretsIn is what of a run must stand in no fact.
func secretsIn(env look.Env) []string {
	list := []string{env.Secret, env.Shared}
	_, query, _ := strings.Cut(env.Whole, "?")
	for part := range strings.SplitSeq(query, "&") {
		if _, value, ok := strings.Cut(part, "="); ok && !strings.Contains(env.Path, part) {
			list = append(list, value)
		}
	}
	return list
}

// here is this host, as the client unless another is, and as the server if it
// holds the address.
func here(env look.Env, client bool) []trace.Vantage {
	host := hostname()
	server := vantage.NewHere(
		fact.Vantage{ID: "v2", Role: fact.Server, Host: host, Means: fact.Here, Implied: true},
		env,
	)
	if !client {
		return []trace.Vantage{server}
	}
	return []trace.Vantage{
		vantage.NewHere(fact.Vantage{ID: "v1", Role: fact.Client, Host: host, Means: fact.Here}, env),
		server,
	}
}

func hostname() string {
	host, err := os.Hostname()
	if err != nil {
		return "this host"
	}
	return host
}

// roleOf splits "[ROLE=]WHAT"; the role is the server's if none is given.
func roleOf(flag, text string) (fact.Role, string, error) {
	before, after, ok := strings.Cut(text, "=")
	if !ok {
		before, after = string(fact.Server), text
	}
	role := fact.Role(before)
	switch {
	case role != fact.Client && role != fact.Server && role != fact.Gateway:
		return "", "", fmt.Errorf("%s %q: role %q; expected client, server or gateway before the =", flag, text,
			before)
	case after == "":
		return "", "", fmt.Errorf("%s %q: %w", flag, text, errors.New("nothing behind the role"))
	}
	return role, after, nil
}
