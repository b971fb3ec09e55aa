package cli

import (
	"context"
	"fmt"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/card"
	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/clientlib"
	"uakari/internal/look/file"
	"uakari/internal/look/trust"
	"uakari/internal/program"
	"uakari/internal/protocol"
	"uakari/internal/sheet"
	"uakari/internal/vantage"
	"uakari/internal/weigh/catalogue"
)

// seeing is what the flags say of how to look, and from where.
type seeing struct {
	resolvers       []string
	trust, hosts    string
	card, unit      string
	sheets          []string
	programs        []string
	deadline, wait  time.Duration
	at, in, records []string
	identity        string
	presented       string
	proxyScript     string
	secret, shared  string
	lend            string
	asRoot          bool
	inTheClear      bool
	user            string
	program         string // the client's

	known *fact.Card // of --card, where it was read before

	broker brokerFlags
}

// addFlags adds the flags of a look from this host.
func (s *seeing) addFlags(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringArrayVar(
		&s.resolvers,
		"resolver",
		nil,
		"ask this resolver instead of the host's own: `IP[:PORT]`; repeats",
	)
	flags.StringVar(&s.trust, "trust", "", "trust the roots in this `file` or folder instead of the system's")
	flags.StringVar(&s.hosts, "hosts", "", "read this hosts `file` instead of the system's")
	flags.StringVar(&s.card, "card", "", "what the healthy application looks like: a card `file`")
	for _, name := range []string{"card", "sheet", "program"} {
		defer cmd.RegisterFlagCompletionFunc(name, yamlFiles)
	}
	flags.StringArrayVar(&s.sheets, "sheet", nil, "rules that no host can be asked for: a sheet `file`; repeats")
	flags.StringArrayVar(
		&s.programs,
		"program",
		nil,
		"what is known of a server program of your own: a program `file`; repeats",
	)
	flags.StringVar(&s.unit, "unit", "", "the `unit` that serves the endpoint")
	flags.DurationVar(&s.deadline, "deadline", 30*time.Second, "the longest the whole run may take")
	flags.DurationVar(&s.wait, "wait", 4*time.Second, "the longest wait for one connect or one resolver")
}

// addFar adds the flags of looks from other hosts.
func (s *seeing) addFar(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringArrayVar(
		&s.at,
		"at",
		nil,
		"look from there too, over SSH, or over a broker (nats:HOST): `[ROLE=]USER@HOST[:PORT]`, the role being "+
			"server if not given; repeats",
	)
	flags.StringArrayVar(
		&s.in,
		"in",
		nil,
		"look from within a container, a process or a network namespace there: `[ROLE=]PLACE`, the role being "+
			"client if not given; repeats",
	)
	flags.StringArrayVar(
		&s.records,
		"record",
		nil,
		"use a host's record, made by uakari record: `[ROLE=]FILE`; repeats",
	)
	flags.StringVar(&s.identity, "identity", "", "log in with the private key in this `file`")
	flags.StringVar(
		&s.presented,
		"certificate",
		"",
		"present the certificate and key in this `file` as the client's: PEM, CERT,KEY, or PKCS #12",
	)
	flags.StringVar(
		&s.secret,
		"secret",
		"",
		"the password, for --at and for --user: `env:NAME|file:PATH|prompt`; never given here itself",
	)
	flags.StringVar(&s.shared, "shared-secret", "",
		"what this client shares with its server beside any account (RADIUS): `env:NAME|file:PATH|prompt`")
	flags.StringVar(&s.proxyScript, "proxy-script", "",
		"let this `script` decide over proxies, as it does for the client's programs: a file or an http(s) URL")
	flags.StringVar(&s.program, "client-program", "",
		"try as this client `program` would, by its own settings: "+strings.Join(clientlib.Known(), ", "))
	flags.StringVar(&s.user, "user", "", "try this `account` once, with --secret or --identity")
	flags.BoolVar(
		&s.inTheClear,
		"in-the-clear",
		false,
		"let the secret go where nobody vouches for who reads it: unencrypted, or to a server that clients do not "+
			"check",
	)
	s.broker.add(cmd)
	s.addLend(cmd)
	flags.BoolVar(&s.asRoot, "as-root", false, "look there as root, by sudo without a password")
}

// addLend adds the flag of what is copied over.
func (s *seeing) addLend(cmd *cobra.Command) {
	cmd.Flags().StringVar(&s.lend, "lend", "",
		"copy this program over for the run, and remove it; --lend=`FILE`: another build of it")
	cmd.Flags().Lookup("lend").NoOptDefVal = vantage.Own
}

// yamlFiles completes the names of cards and sheets.
func yamlFiles(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
	return []string{"yaml", "yml"}, cobra.ShellCompDirectiveFilterFileExt
}

// check finds flags that make no sense.
func (s *seeing) check() error {
	switch {
	case s.deadline <= 0:
		return fmt.Errorf("--deadline %s: expected a time above zero, like 30s", s.deadline)
	case s.program != "" && !slices.Contains(clientlib.Known(), s.program):
		return fmt.Errorf("--client-program %q: expected one of %s", s.program, strings.Join(clientlib.Known(), ", "))
	case s.wait <= 0:
		return fmt.Errorf("--wait %s: expected a time above zero, like 4s", s.wait)
	}
	return nil
}

// ask turns an endpoint and flags into what is asked and how to look.
func (s *seeing) ask(ctx context.Context, input string) (fact.Ask, look.Env, error) {
	e, err := endpoint.Parse(input)
	if err != nil {
		return fact.Ask{}, look.Env{}, err
	}
	env, err := s.env(ctx)
	if err != nil {
		return fact.Ask{}, env, err
	}
	sheets, err := s.readSheets(ctx)
	if err == nil {
		if s.secret == "" {
			env.Identity = s.identity // else it is for --at
		}
		env.Secret, err = s.readSecret(ctx, s.account(e) != "")
	}
	if err == nil {
		env.Shared, err = s.secretFrom(ctx, "--shared-secret", s.shared)
	}
	if err == nil && s.clientHere() {
		s.asClients(&e, &env)
	}
	env.AnyName, env.Account = e.AnyName, s.account(e)
	env.Lenient, env.InTheClear, env.Path, env.Whole = !e.Verify, s.inTheClear, e.Path, e.Whole
	return fact.Ask{
		Endpoint:  e,
		Account:   s.account(e),
		Shared:    env.Shared != "",
		Program:   s.program,
		Sheets:    sheets,
		Began:     time.Now().UTC(),
		Unit:      s.unit,
		Card:      env.Card,
		Programs:  env.Registry().Own,
		Resolvers: env.Resolvers,
		WaitMS:    float64(s.wait.Milliseconds()),
	}, env, err
}

// account is the one that is tried. Where a protocol has accounts without a
// name, a secret alone is one.
func (s *seeing) account(e fact.Endpoint) string {
	scheme, _ := protocol.Lookup(e.Scheme)
	if s.user == "" && s.secret != "" && len(s.at) == 0 {
		return scheme.Nameless
	}
	return s.user
}

// readSheets reads every sheet that was named.
func (s *seeing) readSheets(ctx context.Context) ([]fact.Sheet, error) {
	var list []fact.Sheet
	folder := shared().Sheets
	for _, path := range s.sheets {
		path = inFolder(folder, path)
		text, err := s.steering(ctx, path, sheet.MostBytes)
		if err != nil {
			return nil, err
		}
		each, err := sheet.Parse(path, text)
		if err != nil {
			return nil, err
		}
		list = append(list, *each)
	}
	return list, nil
}

// readPrograms reads what the user knows of server programs: the files that
// were named, and those of the configuration folder.
func (s *seeing) readPrograms(ctx context.Context) (*program.Registry, error) {
	var folders []string
	if folder, err := os.UserConfigDir(); err == nil {
		folders = append(folders, filepath.Join(folder, "uakari", "programs"))
	}
	if folder := shared().Programs; folder != "" {
		folders = append(folders, atHome(folder))
	}
	paths := slices.Clone(s.programs)
	for _, folder := range folders {
		found, err := filepath.Glob(filepath.Join(folder, "*.yaml"))
		if err != nil {
			continue // a folder whose name is a pattern has no files of ours
		}
		for _, path := range append([]string{folder}, found...) {
			if err := file.Steers(path); err != nil && len(found) > 0 {
				return nil, err
			}
		}
		paths = append(paths, found...)
	}
	var files []fact.ProgramFile
	for _, path := range paths {
		text, err := s.steering(ctx, path, mostProgram)
		if err != nil {
			return nil, err
		}
		files = append(files, fact.ProgramFile{Path: path, Text: string(text)})
	}
	known, err := program.With(files)
	if err != nil {
		return nil, err
	}
	for i, p := range known.Taught() {
		for _, s := range p.Says {
			if _, ok := catalogue.Explain(s.Cause); !ok {
				return nil, fmt.Errorf(
					"%s: says: no cause is called %q; uakari explain lists them",
					files[i].Path,
					s.Cause,
				)
			}
		}
	}
	return known, nil
}

// mostProgram bounds a file of one program, in bytes.
const mostProgram = 256 << 10

// env is how to look, without an endpoint.
func (s *seeing) env(ctx context.Context) (look.Env, error) {
	env := look.Env{Wait: s.wait, HostsFile: s.hosts, Trust: s.trust, Unit: s.unit, Presented: s.presented,
		ProxyScript: s.proxyScript}
	if err := s.check(); err != nil {
		return env, err
	}
	for _, text := range s.resolvers {
		r, err := parseResolver(text)
		if err != nil {
			return env, err
		}
		env.Resolvers = append(env.Resolvers, r)
	}
	if s.card != "" {
		var err error
		if env.Card, err = s.readCard(ctx, s.card); err != nil {
			return env, err
		}
		env.CardBy = file.Writer(inFolder(shared().Cards, s.card))
	}
	var err error
	if env.Programs, err = s.readPrograms(ctx); err != nil {
		return env, err
	}
	if s.presented != "" {
		if err := s.within(ctx, func() error {
			_, err := trust.ReadPresented(s.presented,
				"")
			return err
		}); err != nil {
			return env, fmt.Errorf("--certificate: %w", err)
		}
	}
	if s.trust != "" {
		if err := s.within(ctx, func() error { _, err := trust.Load(s.trust); return err }); err != nil {
			return env, fmt.Errorf("--trust: %w", err)
		}
	}
	if s.hosts != "" {
		if _, err := os.Stat(s.hosts); err != nil {
			return env, fmt.Errorf("--hosts: %w", err)
		}
	}
	return env, nil
}

// read reads a file that the user named, within the deadline: it may be a pipe
// that nobody writes to.
func (s *seeing) read(ctx context.Context, path string, most int64) ([]byte, error) {
	if s.deadline > 0 {
		within, cancel := context.WithTimeout(ctx, s.deadline)
		defer cancel()
		ctx = within
	}
	return file.Typed(ctx, path, most)
}

// steering reads a file that steers this program, which must be root's or the user's.
func (s *seeing) steering(ctx context.Context, path string, most int64) ([]byte, error) {
	if err := file.Steers(path); err != nil {
		return nil, err
	}
	return s.read(ctx, path, most)
}

// within does work that knows no context, and goes on without it when the
// deadline is over.
func (s *seeing) within(ctx context.Context, do func() error) error {
	if s.deadline > 0 {
		within, cancel := context.WithTimeout(ctx, s.deadline)
		defer cancel()
		ctx = within
	}
	done := make(chan error, 1)
	go func() { done <- do() }()
	select {
	case err := <-done:
		return err
	case <-ctx.Done():
		return fmt.Errorf("nothing came: %w", ctx.Err())
	}
}

// readCard reads a card that the user named.
func (s *seeing) readCard(ctx context.Context, path string) (*fact.Card, error) {
	if s.card == path && s.known != nil {
		return s.known, nil // it may come from a pipe
	}
	path = inFolder(shared().Cards, path)
	text, err := s.steering(ctx, path, card.MostBytes)
	if err != nil {
		return nil, err
	}
	return card.Parse(path, text)
}

func parseResolver(text string) (netip.AddrPort, error) {
	if addr, err := netip.ParseAddr(strings.Trim(text, "[]")); err == nil {
		return netip.AddrPortFrom(addr, 53), nil
	}
	ap, err := netip.ParseAddrPort(text)
	if err != nil || ap.Port() == 0 {
		return ap, fmt.Errorf(
			"--resolver %q: expected an address, with a port if it is not 53, like 10.20.0.2 or [fd20::2]:5353",
			text,
		)
	}
	return ap, nil
}
