package cli

import (
	"bufio"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uakari/internal/casebook"
	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/protocol"
	"uakari/internal/tell"
	"uakari/internal/trace"
	"uakari/internal/trail"
	"uakari/internal/weigh"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/yamlfile"
)

// traceFlags is what the flags of trace say.
type traceFlags struct {
	said    string // the message of the user's client
	suspect string // a rung or a cause: is it that?
	seeing
	only          []string
	out, file     string
	json          bool
	color         string
	facts, replay string
	kept          string // in which case
	since         string // the run that worked
	from          string // of an account that is judged on paper
	then          string // the command that confirms a change
	idle, each    time.Duration
	widths        []int
	packets       packetFile
	budget        loginBudget
}

func newTrace() *cobra.Command {
	var f traceFlags
	cmd := &cobra.Command{
		Use:   "trace [ENDPOINT|-]",
		Short: "find out why a client cannot reach a server, and what to do",
		Long: `Walk the whole ladder, from what the client was told to what the application
answers, and say what is in the way and what to do about it.

ENDPOINT is a URL (https://tidebook.varzea.example/), host:port, or a host.
The client is this host. If this host has the address, it is the server too.
With - endpoints are read from standard input, one a line, and traced one after
the other; the exit status is that of the worst.

--user tries an account, once. The secret goes to the endpoint that was typed and
to no other, and only over a connection whose server proved that it is the right
one: by a certificate that this client takes, or an SSH host key that it knows.
On any other connection a way of signing in is taken that does not show the
secret (SCRAM, CRAM, digest, NTLM, Kerberos, a database's challenge), if the
server offers one. If it does not, nothing is presented, and the answer is
"unsure"; --in-the-clear lets the secret itself go where anybody on the way may
read it.

Exit status: 0 it works, 1 something blocks it, 3 nothing proves why or
whether, 2 wrong usage, 130 interrupted.`,
		Args: f.args,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := interruptible(cmd)
			defer stop()
			if f.replay != "" {
				return f.replayed(ctx, cmd)
			}
			if len(args) == 0 {
				c, err := f.readCard(ctx, f.card)
				if err != nil {
					return err
				}
				if c.Endpoint == "" {
					return fmt.Errorf("%s:1:1: the card names no endpoint; expected one in it, or behind trace",
						f.card)
				}
				f.known, args = c, []string{c.Endpoint}
			}
			if args[0] == "-" && f.packets.file != "" {
				return errors.New("trace: --packets is for one ENDPOINT; expected no -")
			}
			if args[0] == "-" {
				return f.every(ctx, cmd)
			}
			return f.run(ctx, cmd, args[0])
		},
	}
	f.addFlags(cmd)
	f.addFar(cmd)
	flags := cmd.Flags()
	flags.StringVar(&f.suspect, "suspect", "", "answer whether it is this `rung` or cause: rules, certs/expired, …")
	flags.StringVar(&f.said, "error", "", "the message that the client shows: `text`, kept with the case and compared")
	flags.StringSliceVar(&f.only, "only", nil, "judge these `rungs` only: settings,service,ports,…")
	flags.StringVar(&f.out, "out", "text", "`format` of the output: text, json, md or html")
	flags.BoolVar(&f.json, "json", false, "the same as --out json")
	flags.StringVarP(&f.file, "output", "o", "", "write to this `file` instead of standard output")
	flags.StringVar(&f.color, "color", "auto", "auto, always or never")
	flags.StringVar(&f.facts, "facts", "", "also write all that was seen to this `file`")
	flags.StringVar(
		&f.replay,
		"replay",
		"",
		"look at nothing; weigh the facts in this `file`, or the last of this case, again",
	)
	flags.StringVar(&f.since, "since", "", "say what changed since this run, which worked: a case, facts or a record")
	f.packets.addPackets(cmd, "the packets of the endpoint's port that this host's links show")
	flags.StringVar(&f.kept, "case", "", "keep it in the casebook: as a `new` case, or in the one with this number")
	return cmd
}

func (f *traceFlags) args(_ *cobra.Command, args []string) error {
	switch {
	case f.replay != "" && len(args) > 0:
		return errors.New("trace: --replay weighs kept facts; no ENDPOINT goes with it")
	case f.replay == "" && len(args) == 0 && f.card == "":
		return errors.New(
			"trace: what is to be reached? Expected a URL, host:port or a host, as in: uakari trace " +
				"https://tidebook.varzea.example/",
		)
	case len(args) > 1:
		return fmt.Errorf("trace: one ENDPOINT at a time; found %d: %s", len(args), strings.Join(args, " "))
	}
	return nil
}

// mostInputs bounds how many endpoints are read from standard input.
const mostInputs = 10_000

// every traces each endpoint of standard input. All are read first, so that a
// wrong one is told before anything is looked at.
func (f *traceFlags) every(ctx context.Context, cmd *cobra.Command) error {
	if f.file != "" || f.facts != "" {
		return errors.New("trace -: --output and --facts are for one endpoint")
	}
	var inputs []string
	lines := bufio.NewScanner(cmd.InOrStdin())
	for number := 1; lines.Scan(); number++ {
		line := strings.TrimSpace(lines.Text())
		if line == "" || strings.HasPrefix(line, "#") {
			continue
		}
		if _, err := endpoint.Parse(line); err != nil {
			return fmt.Errorf("standard input:%d:1: %w", number, err)
		}
		if inputs = append(inputs, line); len(inputs) > mostInputs {
			return fmt.Errorf(
				"standard input:%d:1: more than %d endpoints; a plan for uakari sweep takes more",
				number,
				mostInputs,
			)
		}
	}
	if err := lines.Err(); err != nil {
		return fmt.Errorf("standard input: %w", err)
	}
	if len(inputs) == 0 {
		return errors.New("trace -: standard input has no endpoint; expected one a line")
	}
	worst := exit(exitClear)
	for i, input := range inputs {
		if i > 0 && f.out == "text" && !f.json {
			fmt.Fprintln(cmd.OutOrStdout())
		}
		err := f.run(ctx, cmd, input)
		var status exit
		if err != nil && !errors.As(err, &status) {
			return fmt.Errorf("%s: %w", input, err)
		}
		if status == exitInterrupted {
			return status
		}
		if status == exitFault || worst == exitClear {
			worst = status
		}
	}
	if worst == exitClear {
		return nil
	}
	return worst
}

// run looks, weighs and tells.
func (f *traceFlags) run(ctx context.Context, cmd *cobra.Command, input string) error {
	if err := f.check(); err != nil {
		return err
	}
	if f.facts != "" || f.kept != "" {
		casebook.KeepMarkKey()
	}
	ask, env, err := f.ask(ctx, input)
	if err != nil {
		return err
	}
	ask.Error, ask.Suspect = f.said, f.suspect
	ask.Only, ask.Command = f.only, commandLine(cmd, ask.Endpoint.Input)
	ask = f.budget.bound(cmd, ask)
	if err := f.strain(cmd, &ask); err != nil {
		return err
	}
	if err := f.packets.begin(ctx, ask.Endpoint, env); err != nil {
		return fmt.Errorf("--packets: %w", err)
	}
	var since comparison
	if f.since != "" {
		if since, err = f.sinceGiven(ctx, cmd, input); err != nil {
			return err
		}
	}
	var runs []seenRun
	err = f.look(
		ctx,
		cmd,
		env,
		weigh.First(ask.Endpoint),
		func(ctx context.Context, at []trace.Vantage, watch func(trace.Event)) {
			for _, seats := range byClient(at) {
				runs = append(runs, traceOnce(ctx, ask, seats, watch))
				f.budget.spend(cmd, runs[len(runs)-1].set)
				ask = f.budget.bound(cmd, ask)
			}
			if len(runs) == 1 {
				since.with(ctx, cmd, runs[0], at)
			}
		},
	)
	if err != nil {
		return err
	}
	var sets []fact.Set
	for _, r := range runs {
		sets = append(sets, r.set)
	}
	if err := f.packets.end(cmd, sets...); err != nil {
		return err
	}
	if len(runs) > 1 {
		return f.tellClients(cmd, runs)
	}
	set, judged := runs[0].set, runs[0].judged
	if f.facts != "" {
		if err := writeFacts(cmd, f.facts, set); err != nil {
			return err
		}
	}
	since.told(cmd, &judged)
	f.then, err = f.next(cmd, ask, set, judged)
	return errors.Join(f.tell(cmd, set, judged), err)
}

// knownCause reports whether the catalogue has a cause.
func knownCause(id string) bool {
	_, ok := catalogue.Explain(id)
	return ok
}

// next keeps the trace, if that was asked for, and is the command that
// confirms a change afterwards.
func (f *traceFlags) next(cmd *cobra.Command, ask fact.Ask, set fact.Set, judged trail.Trail) (string, error) {
	if f.kept != "" || os.Getenv("UAKARI_CASEBOOK") != "" {
		id, err := keep(cmd, f.kept, set, judged)
		switch {
		case err != nil:
			return ask.Command, err
		case id != 0:
			return fmt.Sprintf("uakari confirm %d", id), nil
		}
	}
	if f.facts != "" {
		return "uakari confirm " + foreign.ShellWord(f.facts), nil
	}
	return ask.Command, nil
}

// Bounds of what may be asked of a server that is not asked to bear it.
const (
	mostWidth = 64
	mostEach  = time.Minute
	mostIdle  = time.Hour
)

// strain takes over what is to be asked beyond one answer, and says what it
// will be. The deadline is made to fit.
func (f *traceFlags) strain(cmd *cobra.Command, ask *fact.Ask) error {
	switch {
	case f.idle < 0 || f.idle > mostIdle || f.idle > 0 && f.idle < time.Second:
		return fmt.Errorf("--idle %s: expected a time from 1s to %s", f.idle, mostIdle)
	case len(f.widths) > 0 && (f.each < time.Second || f.each > mostEach):
		return fmt.Errorf("--for %s: expected a time from 1s to %s", f.each, mostEach)
	case len(f.widths) > 8:
		return fmt.Errorf("--parallel: %d numbers; expected at most 8", len(f.widths))
	}
	for _, width := range f.widths {
		if width < 1 || width > mostWidth {
			return fmt.Errorf("--parallel %d: expected numbers from 1 to %d", width, mostWidth)
		}
	}
	scheme, _ := protocol.Lookup(ask.Endpoint.Scheme)
	if len(f.widths) > 0 && !protocol.Of(scheme.Wire).Web {
		return fmt.Errorf("--parallel: only HTTP and HTTPS are asked so; found %s", ask.Endpoint.Scheme)
	}
	ask.IdleS, ask.Widths = int(f.idle.Seconds()), f.widths
	f.deadline += f.idle + time.Duration(len(f.widths))*(f.each+time.Second)
	if len(f.widths) > 0 {
		fmt.Fprintf(
			cmd.ErrOrStderr(),
			"uakari: asks %s with %s requests side by side, %s each, at most 2000 a turn; Ctrl-C ends it\n",
			foreign.Printable(
				ask.Endpoint.Input,
			),
			strings.Trim(strings.Join(strings.Fields(fmt.Sprint(f.widths)), ", "), "[]"),
			f.each,
		)
	}
	return nil
}

// look opens the vantages, and shows how the looks fare, until the deadline or
// an interruption.
func (f *traceFlags) look(
	ctx context.Context,
	cmd *cobra.Command,
	env look.Env,
	first []fact.Order,
	do func(context.Context, []trace.Vantage, func(trace.Event)),
) error {
	ctx, cancel := until(ctx, cmd, f.deadline)
	defer cancel()
	env.Each = f.each
	at, done, err := f.vantages(ctx, env, first)
	defer done()
	if err != nil {
		return err
	}
	p := newProgress(cmd.ErrOrStderr())
	defer p.stop()
	do(ctx, at, p.watch)
	return nil
}

// check finds flags that make no sense, before anything is looked at.
func (f *traceFlags) check() error {
	if f.json {
		f.out = "json"
	}
	for _, rung := range f.only {
		if !slices.Contains(trail.Ladder, trail.Rung(rung)) {
			return fmt.Errorf("--only %q: no such rung; expected some of %s%s", rung, ladder(),
				yamlfile.Meant(rung, 1, strings.Split(ladder(), ", ")))
		}
	}
	if rung, _, _ := strings.Cut(f.suspect, "/"); f.suspect != "" && !knownCause(f.suspect) &&
		(rung != f.suspect || !slices.Contains(trail.Ladder, trail.Rung(rung))) {
		return fmt.Errorf("--suspect %q: expected a cause (uakari explain lists them), or one of %s%s", f.suspect, ladder(),
			yamlfile.Meant(f.suspect, 2, append(catalogue.CauseIDs(), strings.Split(ladder(), ", ")...)))
	}
	if outs := []string{"text", "json", "md", "html"}; !slices.Contains(outs, f.out) {
		return fmt.Errorf("--out %q: expected %s", f.out, strings.Join(outs, ", "))
	}
	_, err := colour(f.color, nil)
	return err
}

func ladder() string {
	var names []string
	for _, r := range trail.Ladder {
		names = append(names, string(r))
	}
	return strings.Join(names, ", ")
}

// commandLine is the command that traces the same again, without the flags
// that only say how to tell it.
func commandLine(cmd *cobra.Command, input string) string {
	words := []string{cmd.CommandPath()}
	cmd.Flags().Visit(func(flag *pflag.Flag) {
		if slices.Contains([]string{"out", "json", "output", "color", "facts", "case", "packets"}, flag.Name) {
			return
		}
		value := flag.Value.String()
		switch {
		case flag.Value.Type() == "bool" || flag.NoOptDefVal != "" && value == flag.NoOptDefVal:
			words = append(words, "--"+flag.Name)
			return
		case flag.NoOptDefVal != "": // a word behind it would be an argument
			words = append(words, foreign.ShellWord("--"+flag.Name+"="+value))
			return
		}
		values := []string{flag.Value.String()}
		if list, ok := flag.Value.(pflag.SliceValue); ok {
			values = list.GetSlice()
		}
		for _, value := range values {
			words = append(words, "--"+flag.Name, foreign.ShellWord(value))
		}
	})
	return strings.Join(append(words, foreign.ShellWord(input)), " ")
}

func (f *traceFlags) tell(cmd *cobra.Command, set fact.Set, judged trail.Trail) error {
	var text []byte
	var err error
	if len(judged.Mendable()) > 1 {
		judged.Foreseen = tell.ForeseenLine(weigh.Rehearse(set))
	}
	switch f.out {
	case "json":
		text, err = tell.JSON(judged)
	case "md":
		text = []byte(tell.TraceReport(set, judged).Markdown())
	case "html":
		var page string
		page, err = tell.TraceReport(set, judged).HTML()
		text = []byte(page)
	default:
		on := false
		if on, err = colour(f.color, cmd.OutOrStdout()); err == nil {
			if f.then != "" {
				judged.Command = f.then
			}
			text = []byte(tell.Text(judged, on && (f.file == "" || f.color == "always")))
		}
	}
	if err == nil {
		err = write(cmd, f.file, text)
	}
	switch {
	case err != nil:
		return err
	case judged.Incomplete == "interrupted":
		return exit(exitInterrupted)
	case statuses[bothWays(judged)] != exitClear:
		return statuses[bothWays(judged)]
	}
	return nil
}

// bothWays is the outcome of a trail and of the ways back of its pairs, which
// count as much.
func bothWays(judged trail.Trail) trail.Outcome {
	for _, b := range judged.Behind {
		if b.Pair && judged.Outcome == trail.OutcomeClear {
			return bothWays(b.Trail)
		}
	}
	return judged.Outcome
}

func writeFacts(cmd *cobra.Command, path string, set fact.Set) error {
	text, err := foreign.JSON(set, " ")
	if err != nil {
		return err
	}
	return write(cmd, path, text)
}

// replayed weighs kept facts again.
func (f *traceFlags) replayed(ctx context.Context, cmd *cobra.Command) error {
	if err := f.check(); err != nil {
		return err
	}
	k, err := f.keptSet(ctx, cmd, f.replay)
	if err != nil {
		return err
	}
	f.then = "uakari confirm " + foreign.ShellWord(f.replay)
	judged, _ := weigh.Weigh(k.set)
	return f.tell(cmd, k.set, judged)
}
