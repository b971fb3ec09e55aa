package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/tell"
	"uakari/internal/trace"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// traceFlags is what the flags of trace say.
type traceFlags struct {
	seeing
	only          []string
	out, file     string
	json          bool
	color         string
	facts, replay string
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
	f.addFlags(cmd)
	f.addFar(cmd)
	flags := cmd.Flags()
	flags.StringSliceVar(&f.only, "only", nil, "judge these `rungs` only: settings,service,ports,…")
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
	if err := f.check(); err != nil {
		return err
	}
	ask, env, err := f.ask(input)
	if err != nil {
		return err
	}
	ask.Only, ask.Command = f.only, commandLine(cmd, input)
	var set fact.Set
	var judged trail.Trail
	err = f.look(cmd, env, func(ctx context.Context, at []trace.Vantage, watch func(trace.Event)) {
		set, judged = trace.Run(ctx, ask, at, watch)
	})
	if err != nil {
		return err
	}
	if f.facts != "" {
		if err := writeFacts(f.facts, set); err != nil {
			return err
		}
	}
	return f.tell(cmd, judged)
}

// look opens the vantages, and shows how the looks fare, until the deadline or
// an interruption.
func (f *traceFlags) look(cmd *cobra.Command, env look.Env, do func(context.Context, []trace.Vantage, func(trace.Event))) error {
	ctx, stop := interruptible()
	defer stop()
	ctx, cancel := context.WithTimeout(ctx, f.deadline)
	defer cancel()
	at, done, err := f.vantages(ctx, env)
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
			return fmt.Errorf("--only %q: no such rung; expected some of %s", rung, ladder())
		}
	}
	if f.out != "text" && f.out != "json" {
		return fmt.Errorf("--out %q: expected text or json", f.out)
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
		if slices.Contains([]string{"out", "json", "output", "color", "facts"}, flag.Name) {
			return
		}
		if flag.Value.Type() == "bool" {
			words = append(words, "--"+flag.Name)
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
			if f.facts != "" && judged.Outcome == trail.OutcomeFault {
				text = append(text, "Or: uakari confirm "+weigh.ShellWord(f.facts)+", which sets before beside after\n"...)
			}
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

// replayed weighs kept facts again.
func (f *traceFlags) replayed(cmd *cobra.Command) error {
	if err := f.check(); err != nil {
		return err
	}
	text, err := readKept(f.replay)
	if err != nil {
		return err
	}
	set, err := fact.DecodeSet(f.replay, text)
	if err != nil {
		return err
	}
	judged, _ := weigh.Weigh(set)
	return f.tell(cmd, judged)
}
