package cli

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/protocol"
	"uakari/internal/tell"
	"uakari/internal/wire"
)

// portsFlags is what the flags of ports say.
type portsFlags struct {
	program, unit string
	udp, json     bool
	color, mapper string
}

func newPorts() *cobra.Command {
	var f portsFlags
	cmd := &cobra.Command{
		Use:   "ports [PORT]",
		Short: "list who listens on this host, with their queues",
		Long: `List this host's listeners: address, port, queue as "used of limit", program,
pid, user, unit, and since when. With a PORT, say in one line who holds it, or
who would normally.

Exit status: 0 somebody listens, 1 nobody does, 2 wrong usage.`,
		Args: takes(0, 1, "one PORT"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if f.mapper != "" {
				return f.mapped(cmd)
			}
			port := 0
			if len(args) == 1 {
				var err error
				if port, err = strconv.Atoi(args[0]); err != nil || port < 1 || port > 65535 {
					return fmt.Errorf("ports %q: expected a port from 1 to 65535", args[0])
				}
			}
			return f.run(cmd, uint16(port))
		},
	}
	flags := cmd.Flags()
	flags.StringVar(
		&f.mapper,
		"mapper",
		"",
		"what is registered at the port mapper of this `host`: rpc://HOST, or dcerpc://HOST",
	)
	flags.StringVar(&f.program, "program", "", "those of this `program` only")
	flags.StringVar(&f.unit, "unit", "", "those of this `unit` only")
	flags.BoolVar(&f.udp, "udp", false, "bound UDP sockets too")
	asData(cmd, &f.json, " (uakari.ports/1)")
	flags.StringVar(&f.color, "color", "auto", "auto, always or never")
	return cmd
}

func (f *portsFlags) run(cmd *cobra.Command, port uint16) error {
	on, err := colour(f.color, cmd.OutOrStdout())
	if err != nil {
		return err
	}
	ctx, stop := interruptible(cmd)
	defer stop()
	orders := []fact.Order{{Look: fact.LookListeners}, {Look: fact.LookContainers, Target: fact.Target{Port: port}}}
	if port != 0 {
		orders = append(orders, fact.Order{Look: fact.LookKernel})
	}
	facts := lookHere(ctx, look.Env{}, orders...)
	list, err := listenersOf(facts)
	if err != nil {
		return err
	}
	list.All = slices.DeleteFunc(list.All, func(l fact.Listener) bool {
		return l.Transport == "udp" && !f.udp || port != 0 && l.Port != port ||
			f.program != "" && l.Program != f.program || f.unit != "" && l.Unit != f.unit &&
			l.Unit != f.unit+".service"
	})
	// They mostly come in this order: a listener is large to move.
	slices.SortFunc(list.All, func(a, b fact.Listener) int { return a.Compare(&b) })
	containers := containersOf(facts, port)
	switch {
	case f.json:
		page := portList{"uakari.ports/1", hostname(), []fact.Listener{}, list.Hidden, containers}
		err = foreign.JSONList(cmd.OutOrStdout(), page, "listeners", list.All)
	case port != 0:
		err = write(cmd, "", []byte(tell.Port(port, list.All, usualFor(port), localRange(facts))+
			tell.Containers(containers, on)))
	default:
		err = write(cmd, "", []byte(tell.Ports(list, containers, on)+tell.Containers(containers, on)))
	}
	if err == nil && len(list.All) == 0 {
		err = exit(exitFault)
	}
	return err
}

// containersOf is the containers that were seen; those alone that have to do
// with a port, if it is one.
func containersOf(facts []fact.Fact, port uint16) []fact.Container {
	list := []fact.Container{}
	for _, f := range facts {
		if f.Containers == nil {
			continue
		}
		for _, c := range f.Containers.List {
			about := slices.ContainsFunc(
				c.Published,
				func(p fact.Published) bool { return p.Port == port || p.Inside == port },
			) ||
				slices.ContainsFunc(c.Listeners, func(l fact.Listener) bool { return l.Port == port })
			if (port == 0 || about) && (c.ID != "" || len(c.Listeners) > 0) {
				list = append(list, c)
			}
		}
	}
	return list
}

// mapped lists what is registered at a port mapper.
func (f *portsFlags) mapped(cmd *cobra.Command) error {
	place := f.mapper
	if !strings.Contains(place, "://") {
		place = "rpc://" + place
		if strings.HasSuffix(place, ":135") {
			place = "dcerpc://" + f.mapper
		}
	}
	e, err := endpoint.Parse(place)
	if err != nil {
		return fmt.Errorf("--mapper: %w", err)
	}
	if wire.Mappers[e.Scheme] == nil {
		return fmt.Errorf("--mapper %q: no port mapper; expected a host, rpc://HOST, or dcerpc://HOST", f.mapper)
	}
	ctx, stop := interruptible(cmd)
	defer stop()
	addrs, err := net.DefaultResolver.LookupNetIP(ctx, "ip", strings.TrimSuffix(e.Host, "."))
	if err != nil {
		return fmt.Errorf(
			"--mapper %q: the name does not resolve; see: uakari names %s",
			f.mapper,
			foreign.Printable(e.Host),
		)
	}
	asked := netip.AddrPortFrom(addrs[0].Unmap(), e.Port)
	facts := lookHere(
		ctx,
		look.Env{},
		fact.Order{
			Look:   fact.LookMapper,
			Target: fact.Target{Addr: asked.Addr(), Port: asked.Port(), Scheme: e.Scheme},
		},
	)
	for _, each := range facts {
		switch {
		case each.Failed != nil:
			fmt.Fprintf(cmd.ErrOrStderr(), "uakari: %s: %s\n", each.Source, foreign.Printable(each.Saw))
			return exit(exitUnsure)
		case each.Mapper != nil && f.json:
			return told(cmd, true, each.Mapper, nil)
		case each.Mapper != nil:
			return write(cmd, "", []byte(tell.Mapped(asked.String(), *each.Mapper)))
		}
	}
	return exit(exitUnsure)
}

// portList is what --json writes (docs/schema/ports.schema.json).
type portList struct {
	Format     string           `json:"format"`
	Host       string           `json:"host"`
	Listeners  []fact.Listener  `json:"listeners"`
	Hidden     string           `json:"hidden,omitempty"`
	Containers []fact.Container `json:"containers,omitempty"`
}

// lookHere takes looks at this host and returns their facts.
func lookHere(ctx context.Context, env look.Env, orders ...fact.Order) []fact.Fact {
	var facts []fact.Fact
	local := here(env, true)[0]
	for _, order := range orders {
		local.Look(ctx, order, func(f fact.Fact) { facts = append(facts, f) })
	}
	return facts
}

func listenersOf(facts []fact.Fact) (fact.Listeners, error) {
	for _, f := range facts {
		if f.Listeners != nil {
			return *f.Listeners, nil
		}
	}
	for _, f := range facts {
		if f.Failed != nil && f.Order.Look == fact.LookListeners {
			return fact.Listeners{}, fmt.Errorf("ports: %s: %s; needs %s", f.Failed.What, f.Failed.Why, f.Failed.Needs)
		}
	}
	return fact.Listeners{}, errors.New("ports: nothing was seen")
}

// usualFor is the schemes that customarily use a port.
func usualFor(port uint16) []string {
	var names []string
	for _, s := range protocol.Schemes {
		if s.Usual(port) {
			names = append(names, s.Name)
		}
	}
	return names
}

// localRange is the range that the kernel takes clients' own ports from.
func localRange(facts []fact.Fact) string {
	for _, f := range facts {
		if f.Kernel != nil {
			return strings.ReplaceAll(f.Kernel.Settings["net/ipv4/ip_local_port_range"], " ", "-")
		}
	}
	return ""
}

func newService() *cobra.Command {
	f := traceFlags{out: "text"}
	cmd := &cobra.Command{
		Use:   "service UNIT|ENDPOINT",
		Short: "find out whether a service is running, and why not",
		Long: `Say of a unit of this host whether it runs, since when, and why not; and of one
that does not run what its next start would fail at, without starting anything.
Of an endpoint, judge the service rung alone.

Exit status: 0 it runs, 1 it does not, 3 that could not be seen.`,
		Args: takes(1, 1, "one ENDPOINT"),
		RunE: func(cmd *cobra.Command, args []string) error {
			if strings.Contains(args[0], ":") {
				f.only = []string{"service"}
				ctx, stop := interruptible(cmd)
				defer stop()
				return f.run(ctx, cmd, args[0])
			}
			return f.unitState(cmd, args[0])
		},
	}
	f.addFlags(cmd)
	f.addFar(cmd)
	asData(cmd, &f.json, "")
	cmd.Flags().StringVar(&f.color, "color", "auto", "auto, always or never")
	return cmd
}

// unitState tells of one unit of this host.
func (f *traceFlags) unitState(cmd *cobra.Command, unit string) error {
	f.unit = unit
	ctx, stop := interruptible(cmd)
	defer stop()
	env, err := f.env(ctx)
	if err != nil {
		return err
	}
	env.Deep = true
	on, err := colour(f.color, cmd.OutOrStdout())
	if err != nil {
		return err
	}
	for _, each := range lookHere(ctx, env, fact.Order{Look: fact.LookService}) {
		if each.Service == nil || len(each.Service.Programs) == 0 {
			continue
		}
		p := each.Service.Programs[0]
		err := told(cmd, f.json, p, func() string {
			return tell.Unit(unit, hostname(), p, each.Service.Manager, each.At, on)
		})
		return errors.Join(err, statusOf(p))
	}
	return errors.Join(
		write(cmd, "", []byte("Not known: units and processes could not be seen here.\n")),
		exit(exitUnsure),
	)
}

// statusOf is the exit status for a program: whether it runs.
func statusOf(p fact.Program) error {
	if len(p.Here()) == 0 && len(p.Units) == 0 &&
		slices.ContainsFunc(p.Processes, func(r fact.Process) bool { return r.Unplaced }) {
		return exit(exitUnsure)
	}
	if len(p.Here()) == 0 && !slices.ContainsFunc(p.Units, func(u fact.Unit) bool { return u.Active == "active" }) {
		return exit(exitFault)
	}
	return nil
}
