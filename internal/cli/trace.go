package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uakari/internal/card"
	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/trust"
	"uakari/internal/tell"
	"uakari/internal/trace"
	"uakari/internal/trail"
	"uakari/internal/vantage"
	"uakari/internal/weigh"
)

// traceFlags is what the flags of trace say.
type traceFlags struct {
	resolvers      []string
	trust, hosts   string
	card, unit     string
	only           []string
	deadline, wait time.Duration
	out, file      string
	json           bool
	color          string
	facts, replay  string
}

func newTrace() *cobra.Command {
	var f traceFlags
	cmd := &cobra.Command{
		Use:   "trace ENDPOINT",
		Short: "walk the whole ladder and say what to do",
		Long: `Walk the whole ladder, from what the client was told to what the application
answers, and say what is in the way and what to do about it.

ENDPOINT is a URL (https://tidebook.varzea.example/), host:port, or a host.
The client is this host. If this host has the address, it is the server too.

Exit status: 0 it works, 1 something blocks it, 3 nothing proves why or
whether, 2 wrong usage, 130 interrupted.`,
		Args: f.args,
		RunE: func(cmd *cobra.Command, args []string) error {
			if f.replay != "" {
				return f.replayed(cmd)
			}
			return f.run(cmd, args[0])
		},
	}
	flags := cmd.Flags()
	flags.StringArrayVar(&f.resolvers, "resolver", nil, "ask this resolver instead of the host's own: `IP[:PORT]`; repeats")
	flags.StringVar(&f.trust, "trust", "", "trust the roots in this `file` (PEM) instead of the system's")
	flags.StringVar(&f.hosts, "hosts", "", "read this hosts `file` instead of the system's")
	flags.StringVar(&f.card, "card", "", "what the healthy application looks like: a card `file`")
	flags.StringVar(&f.unit, "unit", "", "the `unit` that serves the endpoint")
	flags.StringSliceVar(&f.only, "only", nil, "judge these `rungs` only: settings,service,ports,…")
	flags.DurationVar(&f.deadline, "deadline", 30*time.Second, "the longest the whole run may take")
	flags.DurationVar(&f.wait, "wait", 4*time.Second, "the longest wait for one connect or one resolver")
	flags.StringVar(&f.out, "out", "text", "`format` of the output: text or json")
	flags.BoolVar(&f.json, "json", false, "the same as --out json")
	flags.StringVarP(&f.file, "output", "o", "", "write to this `file` instead of standard output")
	flags.StringVar(&f.color, "color", "auto", "auto, always or never")
	flags.StringVar(&f.facts, "facts", "", "also write all that was seen to this `file`")
	flags.StringVar(&f.replay, "replay", "", "look at nothing; weigh the facts in this `file` again")
	return cmd
}

func (f *traceFlags) args(_ *cobra.Command, args []string) error {
	switch {
	case f.replay != "" && len(args) > 0:
		return errors.New("trace: --replay weighs kept facts; no ENDPOINT goes with it")
	case f.replay == "" && len(args) == 0:
		return errors.New("trace: what is to be reached? Expected a URL, host:port or a host, as in: uakari trace https://tidebook.varzea.example/")
	case len(args) > 1:
		return fmt.Errorf("trace: one ENDPOINT at a time; found %d: %s", len(args), strings.Join(args, " "))
	}
	return nil
}

// run looks, weighs and tells.
func (f *traceFlags) run(cmd *cobra.Command, input string) error {
	ask, env, err := f.ask(cmd, input)
	if err != nil {
		return err
	}
	if err := f.check(); err != nil {
		return err
	}
	host, err := os.Hostname()
	if err != nil {
		host = "this host"
	}
	at := []trace.Vantage{
		vantage.NewHere(fact.Vantage{ID: "v1", Role: fact.Client, Host: host, Means: fact.Here}, env),
		vantage.NewHere(fact.Vantage{ID: "v2", Role: fact.Server, Host: host, Means: fact.Here, Implied: true}, env),
	}
	ctx, stop := interruptible()
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, f.deadline)
	defer cancel()
	p := newProgress(cmd.ErrOrStderr())
	set, judged := trace.Run(ctx, ask, at, p.watch)
	p.stop()
	if f.facts != "" {
		if err := writeFacts(f.facts, set); err != nil {
			return err
		}
	}
	return f.tell(cmd, judged)
}

// ask turns flags into what is asked and how to look.
func (f *traceFlags) ask(cmd *cobra.Command, input string) (fact.Ask, look.Env, error) {
	e, err := endpoint.Parse(input)
	if err != nil {
		return fact.Ask{}, look.Env{}, err
	}
	ask := fact.Ask{Endpoint: e, Began: time.Now().UTC(), Command: commandLine(cmd, input), Unit: f.unit, Only: f.only,
		WaitMS: float64(f.wait.Milliseconds())}
	for _, text := range f.resolvers {
		r, err := parseResolver(text)
		if err != nil {
			return ask, look.Env{}, err
		}
		ask.Resolvers = append(ask.Resolvers, r)
	}
	if f.card != "" {
		if ask.Card, err = card.Read(f.card); err != nil {
			return ask, look.Env{}, err
		}
	}
	if f.trust != "" {
		if _, err := trust.Load(f.trust); err != nil {
			return ask, look.Env{}, fmt.Errorf("--trust: %w", err)
		}
	}
	if f.hosts != "" {
		if _, err := os.Stat(f.hosts); err != nil {
			return ask, look.Env{}, fmt.Errorf("--hosts: %w", err)
		}
	}
	env := look.Env{Wait: f.wait, Resolvers: ask.Resolvers, HostsFile: f.hosts, Trust: f.trust, Unit: f.unit, Card: ask.Card}
	return ask, env, nil
}

// check finds flags that make no sense, before anything is looked at.
func (f *traceFlags) check() error {
	if f.json {
		f.out = "json"
	}
	for _, rung := range f.only {
		if !slices.Contains(trail.Ladder, trail.Rung(rung)) {
			return fmt.Errorf("--only %q: no such rung; expected some of %s", rung, ladder())
		}
	}
	switch {
	case f.out != "text" && f.out != "json":
		return fmt.Errorf("--out %q: expected text or json", f.out)
	case f.deadline <= 0:
		return fmt.Errorf("--deadline %s: expected a time above zero, like 30s", f.deadline)
	case f.wait <= 0:
		return fmt.Errorf("--wait %s: expected a time above zero, like 4s", f.wait)
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

func parseResolver(text string) (netip.AddrPort, error) {
	if addr, err := netip.ParseAddr(strings.Trim(text, "[]")); err == nil {
		return netip.AddrPortFrom(addr, 53), nil
	}
	ap, err := netip.ParseAddrPort(text)
	if err != nil || ap.Port() == 0 {
		return ap, fmt.Errorf("--resolver %q: expected an address, with a port if it is not 53, like 10.20.0.2 or [fd20::2]:5353", text)
	}
	return ap, nil
}

// commandLine is the command that traces the same again, without the flags
// that only say how to tell it.
func commandLine(cmd *cobra.Command, input string) string {
	words := []string{cmd.CommandPath()}
	cmd.Flags().Visit(func(flag *pflag.Flag) {
		if slices.Contains([]string{"out", "json", "output", "color", "facts"}, flag.Name) {
			return
		}
		values := []string{flag.Value.String()}
		if list, ok := flag.Value.(pflag.SliceValue); ok {
			values = list.GetSlice()
		}
		for _, value := range values {
			words = append(words, "--"+flag.Name, weigh.ShellWord(value))
		}
	})
	return strings.Join(append(words, weigh.ShellWord(input)), " ")
}

func (f *traceFlags) tell(cmd *cobra.Command, judged trail.Trail) error {
	var text []byte
	var err error
	if f.out == "json" {
		text, err = tell.JSON(judged)
	} else {
		on := false
		if on, err = colour(f.color, cmd.OutOrStdout()); err == nil {
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
	case statuses[judged.Outcome] != exitClear:
		return statuses[judged.Outcome]
	}
	return nil
}

func writeFacts(path string, set fact.Set) error {
	text, err := json.MarshalIndent(set, "", " ")
	if err != nil {
		return err
	}
	return os.WriteFile(path, append(text, '\n'), 0o600)
}

// mostFacts bounds a facts file, in bytes.
const mostFacts = 64 << 20

// readFacts reads kept facts. Errors name the file and the place.
func readFacts(path string) (fact.Set, error) {
	var set fact.Set
	info, err := os.Stat(path)
	if err != nil {
		return set, err
	}
	if info.Size() > mostFacts {
		return set, fmt.Errorf("%s: %d bytes; a facts file has at most %d", path, info.Size(), mostFacts)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return set, err
	}
	d := json.NewDecoder(bytes.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&set); err != nil {
		line, column := placeOf(text, d.InputOffset(), err)
		return set, fmt.Errorf("%s:%d:%d: %s; expected a file that trace --facts wrote", path, line, column, strings.TrimPrefix(err.Error(), "json: "))
	}
	if set.Format != fact.Format {
		return set, fmt.Errorf("%s:1:1: format %q; expected %q", path, set.Format, fact.Format)
	}
	return set, nil
}

// placeOf is the line and column of a JSON error.
func placeOf(text []byte, offset int64, err error) (line, column int) {
	var syntax *json.SyntaxError
	var kind *json.UnmarshalTypeError
	switch {
	case errors.Is(err, io.ErrUnexpectedEOF), errors.Is(err, io.EOF):
		offset = int64(len(text))
	case errors.As(err, &syntax):
		offset = syntax.Offset
	case errors.As(err, &kind):
		offset = kind.Offset
	}
	before := text[:min(max(offset, 0), int64(len(text)))]
	return bytes.Count(before, []byte("\n")) + 1, len(before) - bytes.LastIndexByte(before, '\n')
}

// replayed weighs kept facts again.
func (f *traceFlags) replayed(cmd *cobra.Command) error {
	if err := f.check(); err != nil {
		return err
	}
	set, err := readFacts(f.replay)
	if err != nil {
		return err
	}
	judged, _ := weigh.Weigh(set)
	return f.tell(cmd, judged)
}
