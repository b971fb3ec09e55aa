package cli

import (
	"context"
	"crypto/x509"
	"fmt"
	"net/netip"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look/trust"
	"uakari/internal/protocol"
	"uakari/internal/tell"
	"uakari/internal/trace"
	"uakari/internal/weigh"
)

func newCerts() *cobra.Command {
	f := traceFlags{out: "text"}
	var names []string
	cmd := &cobra.Command{
		Use:   "certs ENDPOINT|FILE…",
		Short: "check a certificate for an endpoint",
		Long: `Show the certificates that an endpoint serves, or that files hold, as a small
tree: who vouches for whom, until when, for which names, and where it breaks.
Judge them as this client would: by its trust and clock, for every name it uses.

With FILE…, certificates in PEM or DER, judge them before a change goes live:
--names lists what they must cover.

Exit status: 0 they fit, 1 they do not, 3 that could not be told, 2 wrong usage
or unreadable input.`,
		Args: takes(1, manyArgs, "an ENDPOINT, or files in PEM or DER"),
		RunE: func(cmd *cobra.Command, args []string) error { return f.certs(cmd, args, names) },
	}
	f.addFlags(cmd)
	f.addFar(cmd)
	flags := cmd.Flags()
	flags.StringSliceVar(&names, "names", nil, "`names` that the certificate must cover, besides the endpoint's own")
	asData(cmd, &f.json, " (uakari.certs/1)")
	flags.StringVar(&f.color, "color", "auto", "auto, always or never")
	return cmd
}

func (f *traceFlags) certs(cmd *cobra.Command, args, names []string) error {
	on, err := colour(f.color, cmd.OutOrStdout())
	if err != nil {
		return err
	}
	if err := f.check(); err != nil {
		return err
	}
	ctx, stop := interruptible(cmd)
	defer stop()
	var set fact.Set
	if isFile(args[0]) || strings.HasPrefix(args[0], "/") || strings.HasPrefix(args[0], ".") {
		set, err = f.certFiles(ctx, args, names)
	} else {
		if len(args) > 1 {
			return fmt.Errorf("certs: one ENDPOINT at a time, or files; found %d", len(args))
		}
		set, err = f.certEndpoint(ctx, cmd, args[0], names)
	}
	if err != nil {
		return err
	}
	c := weigh.Certificates(set, names)
	if err := told(cmd, f.json, c, func() string { return tell.Certs(c, on) }); err != nil {
		return err
	}
	switch {
	case set.Incomplete == "interrupted":
		return exit(exitInterrupted)
	case len(c.Problems) > 0:
		return exit(exitFault)
	case len(c.Chain) == 0:
		return exit(exitUnsure)
	}
	return nil
}

func isFile(path string) bool {
	info, err := os.Stat(path)
	return err == nil && info.Mode().IsRegular()
}

// certEndpoint looks at what an endpoint serves.
func (f *traceFlags) certEndpoint(
	ctx context.Context,
	cmd *cobra.Command,
	input string,
	names []string,
) (fact.Set, error) {
	ask, env, err := f.ask(ctx, input)
	if err != nil {
		return fact.Set{}, err
	}
	ask.Endpoint.Verify = true // that is what is asked
	if ask.Card == nil && len(names) > 0 {
		ask.Card = &fact.Card{Aliases: names}
	} else if ask.Card != nil {
		ask.Card.Aliases = append(ask.Card.Aliases, names...)
	}
	var set fact.Set
	err = f.look(
		ctx,
		cmd,
		env,
		[]fact.Order{{Look: fact.LookAddresses}},
		func(ctx context.Context, at []trace.Vantage, watch func(trace.Event)) {
			set, _ = trace.Run(ctx, ask, at, watch)
		},
	)
	return set, err
}

// certFiles makes facts of files, as if a server had shown them to a client
// of this host.
func (f *traceFlags) certFiles(ctx context.Context, paths, names []string) (fact.Set, error) {
	secret, err := f.readSecret(ctx, true)
	if err != nil {
		return fact.Set{}, err
	}
	var chain [][]byte
	for _, path := range paths {
		text, err := f.read(ctx, path, trust.MostFile)
		if err != nil {
			return fact.Set{}, err
		}
		c, err := trust.Read(path, text, secret)
		if err != nil {
			return fact.Set{}, err
		}
		chain = append(chain, c.Certs...)
	}
	if len(chain) == 0 {
		return fact.Set{}, fmt.Errorf("%s: only a revocation list; expected certificates", paths[0])
	}
	leaf, err := x509.ParseCertificate(chain[0])
	if err != nil {
		return fact.Set{}, fmt.Errorf("%s: %w", paths[0], err)
	}
	name := weigh.NoName
	switch {
	case len(names) > 0:
		name, names = names[0], names[1:]
	case len(leaf.DNSNames) > 0:
		name = strings.Replace(leaf.DNSNames[0], "*", "any", 1)
	case len(leaf.IPAddresses) > 0:
		name = leaf.IPAddresses[0].String()
	}
	e, err := endpoint.Parse("https://" + endpoint.HostPort(name, 443) + "/")
	if err != nil {
		return fact.Set{}, fmt.Errorf("--names: %w", err)
	}
	now := time.Now().UTC()
	ask := fact.Ask{Endpoint: e, Began: now, Card: &fact.Card{Aliases: names}}
	set := fact.New(ask, []fact.Vantage{{ID: "v1", Role: fact.Client, Host: hostname(), Means: fact.Here}})
	addr := netip.AddrFrom4([4]byte{192, 0, 2, 1})
	if a, ok := endpoint.Literal(name); ok {
		addr = a
	}
	look := fact.Order{Look: fact.LookNames, Target: fact.Target{Name: e.Host}}
	session := fact.Order{
		Look:   fact.LookSession,
		Target: fact.Target{Name: e.Host, Addr: addr, Port: 443, Scheme: e.Scheme, Security: e.Security, Path: e.Path},
	}
	source := strings.Join(paths, ", ")
	set = set.With(
		fact.Fact{
			Vantage:   "v1",
			At:        now,
			Order:     look,
			Source:    source,
			HostsFile: &fact.HostsFile{Path: source, Name: e.Host, Line: 1, Addrs: []netip.Addr{addr}},
		},
		fact.Fact{
			Vantage: "v1",
			At:      now,
			Order:   session,
			Source:  source,
			Connect: &fact.Connect{Outcome: fact.Connected},
		},
		fact.Fact{
			Vantage:   "v1",
			At:        now,
			Order:     session,
			Source:    source,
			Handshake: &fact.Handshake{Ending: fact.Done, Chain: chain},
		},
	)
	store, err := trust.Load(f.trust)
	if err != nil {
		return fact.Set{}, fmt.Errorf("--trust: %w", err)
	}
	return set.With(
		fact.Fact{
			Vantage: "v1",
			At:      now,
			Order:   session,
			Source:  store.Source,
			Trust: &fact.Trust{
				Source:  store.Source,
				Count:   store.Count(),
				Roots:   store.For(chain),
				Revoked: store.Lists(chain),
			},
		},
		fact.Fact{
			Vantage: "v1",
			At:      now,
			Order:   session,
			Source:  source,
			Reply:   &fact.Reply{Ending: fact.Done, Protocol: protocol.WebScheme(fact.Plain), Status: 200, Date: now},
		},
	), nil
}
