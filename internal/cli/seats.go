package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"slices"
	"sync"
	"sync/atomic"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/sshclient"
	"uakari/internal/plan"
	"uakari/internal/trace"
	"uakari/internal/vantage"
)

// seat is one client of a sweep: the hosts to look from, opened once.
type seat struct {
	name string
	here bool
	tags []string
	open func(ctx context.Context, env look.Env) ([]trace.Vantage, func(), error)

	once sync.Once
	at   []trace.Vantage
	shut func()
	err  error
	left atomic.Int64 // jobs that are not done
}

// done ends the session of a client after its last job.
func (s *seat) done() {
	if s.left.Add(-1) == 0 && s.shut != nil {
		s.shut()
		s.shut = nil
	}
}

func (s *seat) vantages(ctx context.Context, env look.Env) ([]trace.Vantage, error) {
	s.once.Do(func() {
		s.at, s.shut, s.err = s.open(ctx, env)
		for i, v := range s.at {
			s.at[i] = vantage.Shared(v)
		}
	})
	return s.at, s.err
}

// servers is the hosts that are looked at beside every client, one session each.
func (f *sweepFlags) servers(logins []string) *seat {
	return &seat{
		name: "servers",
		open: func(ctx context.Context, env look.Env) (at []trace.Vantage, shut func(), err error) {
			var open []farHost
			shut = func() {
				for _, v := range open {
					v.Close()
				}
			}
			for i, login := range logins {
				v, err := f.reach(ctx, &f.onBroker, f.login(login),
					fact.Vantage{ID: fmt.Sprintf("p%d", i+1), Role: fact.Server}, env, nil)
				if err != nil {
					return nil, shut, err
				}
				open, at = append(open, v), append(at, v)
			}
			return at, shut, nil
		},
	}
}

// seats is the clients of a plan, each by its name; what stands for several is
// spread out.
func (f *sweepFlags) seats(ctx context.Context, p *plan.Plan) ([]*seat, error) {
	var list []*seat
	add := func(s *seat) error {
		if slices.ContainsFunc(list, func(have *seat) bool { return have.name == s.name }) {
			return fmt.Errorf("the plan has %s twice among its clients", s.name)
		}
		list = append(list, s)
		return nil
	}
	var spread func(c plan.Client) error
	spread = func(c plan.Client) error {
		tags := plan.TagList(c.Tags)
		switch {
		case c.Here:
			return add(
				&seat{name: hostname(), here: true, tags: tags,
					open: func(_ context.Context, env look.Env) ([]trace.Vantage, func(), error) {
						return here(env, true), func() {}, nil
					}},
			)
		case c.At != "":
			return add(f.far(c.At, tags))
		case c.In != "":
			return add(
				&seat{name: c.In, tags: tags, open: func(ctx context.Context, env look.Env) ([]trace.Vantage, func(),
					error) {
					v, err := vantage.Within(ctx, c.In, fact.Vantage{ID: "n1", Role: fact.Client, Means: fact.Inside},
						env, nil)
					if err != nil {
						return nil, func() {}, err
					}
					return append(here(env, false), v), v.Close, nil
				}},
			)
		case c.Hosts != "":
			text, err := f.steering(ctx, c.Hosts, plan.MostBytes)
			if err != nil {
				return err
			}
			hosts, err := plan.Inventory(c.Hosts, string(text))
			if err != nil {
				return err
			}
			return each(hosts, c.Tags, spread)
		case c.Known != "":
			var hosts []plan.Client
			for _, name := range sshclient.Hosts(c.Known) {
				hosts = append(hosts, plan.Client{At: name})
			}
			if len(hosts) == 0 {
				return fmt.Errorf("known: %q: no host of your SSH settings is called so", c.Known)
			}
			return each(hosts, c.Tags, spread)
		}
		return f.recorded(ctx, c, tags, add)
	}
	return list, each(p.Clients, nil, spread)
}

// each spreads clients out, with more tags.
func each(list []plan.Client, tags map[string]string, spread func(plan.Client) error) error {
	for _, c := range list {
		for name, value := range tags {
			if c.Tags == nil {
				c.Tags = map[string]string{}
			}
			if c.Tags[name] == "" {
				c.Tags[name] = value
			}
		}
		if err := spread(c); err != nil {
			return err
		}
	}
	return nil
}

// login is how to log in to a host of the plan.
func (f *sweepFlags) login(to string) vantage.Login {
	return vantage.Login{To: to, Identity: f.identity, Lend: f.lend, AsRoot: f.asRoot, Wait: f.wait}
}

// far is a client that is looked at over SSH or over a broker.
func (f *sweepFlags) far(login string, tags []string) *seat {
	return &seat{name: login, tags: tags, open: func(ctx context.Context, env look.Env) ([]trace.Vantage, func(),
		error) {
		v, err := f.reach(ctx, &f.onBroker, f.login(login), fact.Vantage{ID: "s1", Role: fact.Client}, env, nil)
		if err != nil {
			return nil, func() {}, err
		}
		return append(here(env, false), v), v.Close, nil
	}}
}

// recorded is the clients whose records a pattern finds.
func (f *sweepFlags) recorded(ctx context.Context, c plan.Client, tags []string, add func(*seat) error) error {
	paths, err := filepath.Glob(c.Record)
	if err != nil || len(paths) == 0 {
		return fmt.Errorf("record: %q: there is no such file; expected a host's record, made by uakari record",
			c.Record)
	}
	for _, path := range paths {
		record, err := f.readRecord(ctx, path)
		if err != nil {
			return err
		}
		s := &seat{
			name: record.Host,
			tags: tags,
			open: func(_ context.Context, env look.Env) ([]trace.Vantage, func(), error) {
				return append(here(env, false), vantage.NewCarried("r1", fact.Client, record)), func() {}, nil
			},
		}
		if err := add(s); err != nil {
			return err
		}
	}
	return nil
}
