package cli

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/tell"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

func newCase() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "case",
		Short: "keep an incident, from the first failure to the confirmed fix",
		Long: `A case keeps what was seen of one incident, what was noted, and what was
changed. uakari trace --case new opens one; uakari confirm CASE traces again and
closes it when it works and no temporary change stands.

The casebook is one file, in the state folder or where UAKARI_CASEBOOK says, or a
PostgreSQL database that a team shares (postgres://HOST/DATABASE). If that is set,
every trace is kept.`,
	}
	cmd.AddCommand(
		newCaseList(),
		newCaseShow(),
		newCaseSimilar(),
		newCaseTake(),
		newCaseNote(),
		newCaseChange(),
		newCaseClose(),
		newCaseRemove(),
		newCaseExport(),
		newCaseImport(),
		newCasePrune(),
		newCaseSync(),
		newCaseRights(),
	)
	return cmd
}

// caseNumbers completes the numbers of cases.
func caseNumbers(cmd *cobra.Command, args []string, _ string) ([]string, cobra.ShellCompDirective) {
	if len(args) > 0 {
		return nil, cobra.ShellCompDirectiveNoFileComp
	}
	var numbers []string
	err := withBook(cmd, func(ctx context.Context, b casebook.Store) error {
		list, err := b.List(ctx, casebook.Wanted{Most: mostListed})
		for _, c := range list {
			numbers = append(numbers, fmt.Sprintf("%d\t%s", c.ID, foreign.Printable(c.Title)))
		}
		return err
	})
	if err != nil {
		return nil, cobra.ShellCompDirectiveError
	}
	return numbers, cobra.ShellCompDirectiveDefault
}

// withBook opens the user's casebook for one command.
func withBook(cmd *cobra.Command, do func(ctx context.Context, b casebook.Store) error) error {
	path, err := casebook.Path()
	if err != nil {
		return err
	}
	ctx, stop := interruptible(cmd)
	defer stop()
	b, err := casebook.Open(ctx, path)
	if err != nil {
		return err
	}
	return errors.Join(do(ctx, b), b.Done())
}

// caseID reads the number of a case.
func caseID(text string) (int64, error) {
	id, err := strconv.ParseInt(text, 10, 64)
	if err != nil || id < 1 {
		return 0, fmt.Errorf("case %q: expected a number, see: uakari case list", text)
	}
	return id, nil
}

// ofCase takes arguments of which the first is a case's number: no casebook is
// made for one that cannot be.
func ofCase(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		if err := takes(least, most, what)(cmd, args); err != nil {
			return err
		}
		_, err := caseID(args[0])
		return err
	}
}

// getCase finds a case by its number.
func getCase(ctx context.Context, b casebook.Store, text string) (casebook.Case, error) {
	id, err := caseID(text)
	if err != nil {
		return casebook.Case{}, err
	}
	c, err := b.Get(ctx, id)
	if errors.Is(err, casebook.ErrNone) {
		return c, noCase(id)
	}
	return c, err
}

// noCase is the number of a case that is not there.
type noCase int64

func (n noCase) Error() string {
	return fmt.Sprintf("there is no case %d; see: uakari case list", int64(n))
}

// Is makes it an [casebook.ErrNone].
func (noCase) Is(target error) bool { return target == casebook.ErrNone }

// onCase opens the casebook for one command about one case.
func onCase(cmd *cobra.Command, number string, do func(context.Context, casebook.Store, casebook.Case) error) error {
	return withBook(cmd, func(ctx context.Context, b casebook.Store) error {
		c, err := getCase(ctx, b, number)
		if err != nil {
			return err
		}
		return do(ctx, b, c)
	})
}

// tracedCase is a case that has a trace.
func tracedCase(cmd *cobra.Command, number string) (c casebook.Case, err error) {
	err = withBook(cmd, func(ctx context.Context, b casebook.Store) error {
		if c, err = getCase(ctx, b, number); err == nil && len(c.Traces()) == 0 {
			err = fmt.Errorf("case %d has no trace", c.ID)
		}
		return err
	})
	return c, err
}

// mostListed is how many cases are listed, if nothing else is said.
const mostListed = 50

func newCaseList() *cobra.Command {
	asJSON, mine, color := false, false, ""
	var w casebook.Wanted
	cmd := &cobra.Command{
		Use: "list", Short: "list the cases, the newest first", Args: takes(0, 0, "flags alone"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			on, err := colour(color, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			return withBook(cmd, func(ctx context.Context, b casebook.Store) error {
				asked := w
				if mine {
					asked.Taken = who()
				}
				narrowed := asked != (casebook.Wanted{Most: w.Most})
				if w.Most > 0 {
					asked.Most++ // to know whether there are more
				}
				list, err := b.List(ctx, asked)
				if err != nil {
					return err
				}
				more := w.Most > 0 && len(list) > w.Most
				if more {
					list = list[:w.Most]
				}
				return errors.Join(told(cmd, asJSON, list, func() string {
					if len(list) == 0 && narrowed {
						return "No case is like that.\n"
					}
					return tell.Cases(list, more, on)
				}), remind(cmd))
			})
		},
	}
	flags := cmd.Flags()
	flags.BoolVar(&w.Open, "open", false, "only cases that are not closed")
	flags.BoolVar(&mine, "mine", false, "only cases that you have taken")
	flags.StringVar(&w.Part, "endpoint", "", "only cases whose endpoint contains this `part`")
	flags.StringVar(&w.Cause, "cause", "", "only cases whose first cause contains this `part`: rules/, certs/expired")
	flags.StringVar(&w.Words, "with", "", "only cases whose title, notes or changes contain these `words`")
	flags.IntVar(&w.Most, "limit", mostListed, "list at most this `number` of cases; 0 lists all")
	flags.Int64Var(&w.Before, "after", 0, "continue a list below this `case`, the last one that was listed")
	asData(cmd, &asJSON, "")
	flags.StringVar(&color, "color", "auto", "auto, always or never")
	return cmd
}

func newCaseShow() *cobra.Command {
	var asJSON bool
	var color string
	cmd := &cobra.Command{
		Use:               "show CASE",
		ValidArgsFunction: caseNumbers,
		Short:             "show a case: what was seen, noted and changed",
		Args:              ofCase(1, 1, "the number of a CASE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			on, err := colour(color, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			return onCase(cmd, args[0], func(ctx context.Context, b casebook.Store, c casebook.Case) error {
				return told(cmd, asJSON, c, func() string { return tell.Case(c, judgedOf(c), on) })
			})
		},
	}
	asData(cmd, &asJSON, ", with all that was seen")
	cmd.Flags().StringVar(&color, "color", "auto", "auto, always or never")
	return cmd
}

// judgedOf weighs every trace of a case again.
func judgedOf(c casebook.Case) map[int64]trail.Trail {
	judged := map[int64]trail.Trail{}
	for _, e := range c.Traces() {
		judged[e.Number], _ = weigh.Weigh(*e.Set)
	}
	return judged
}

func newCaseNote() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use:               "note CASE TEXT",
		ValidArgsFunction: caseNumbers,
		Short:             "add a remark",
		Args:              ofCase(2, 2, "the number of a CASE, and a TEXT in quotes"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return onCase(cmd, args[0], func(ctx context.Context, b casebook.Store, c casebook.Case) error {
				err := b.Add(ctx, c.ID, casebook.Entry{At: time.Now(), Kind: casebook.Note, Text: args[1], By: who()})
				return toldAfter(ctx, cmd, asJSON, b, args[0], err)
			})
		},
	}
	asData(cmd, &asJSON, caseAfter)
	return cmd
}

// caseAfter is what is written as JSON by a command that changes a case.
const caseAfter = " (the case as it is then)"

// toldAfter writes a case that a command has changed, where that is wanted as data.
func toldAfter(ctx context.Context, cmd *cobra.Command, asJSON bool, b casebook.Store, number string,
	err error) error {
	if err != nil || !asJSON {
		return err
	}
	c, err := getCase(ctx, b, number)
	if err != nil {
		return err
	}
	return told(cmd, true, c, nil)
}

func newCaseClose() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use: "close CASE", ValidArgsFunction: caseNumbers, Short: "close a case without confirming it",
		Args: ofCase(1, 1, "the number of a CASE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return onCase(cmd, args[0], func(ctx context.Context, b casebook.Store, c casebook.Case) error {
				if standing := c.Standing(); len(standing) > 0 {
					return fmt.Errorf(
						"case %d stays open: the temporary change %d stands (%s); undo it, then: uakari case change "+
							"%d --undone %d",
						c.ID,
						standing[0].Number,
						foreign.Printable(standing[0].Text),
						c.ID,
						standing[0].Number,
					)
				}
				return toldAfter(ctx, cmd, asJSON, b, args[0], b.Close(ctx, c.ID, time.Now()))
			})
		},
	}
	asData(cmd, &asJSON, caseAfter)
	return cmd
}

func newCaseRemove() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use: "remove CASE", ValidArgsFunction: caseNumbers, Short: "remove a case, with all that was kept of it",
		Args: ofCase(1, 1, "the number of a CASE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return withBook(cmd, func(ctx context.Context, b casebook.Store) error {
				id, err := caseID(args[0])
				if err != nil {
					return err
				}
				// One that cannot be read may be removed all the same.
				c, err := b.Get(ctx, id)
				if c.ID = id; err == nil && len(c.Standing()) > 0 {
					return fmt.Errorf(
						"case %d stays: the temporary change %d stands (%s)",
						id,
						c.Standing()[0].Number,
						foreign.Printable(c.Standing()[0].Text),
					)
				}
				if err := b.Remove(ctx, id); errors.Is(err, casebook.ErrNone) {
					return fmt.Errorf("there is no case %d; see: uakari case list", id)
				} else if err != nil {
					return err
				}
				return told(cmd, asJSON, c, func() string { return fmt.Sprintf("case %d is removed\n", id) })
			})
		},
	}
	asData(cmd, &asJSON, " (the case as it was)")
	return cmd
}

// keep keeps a trace in a case: a new one, the one with a number, or, of those
// that are kept without being asked, the open one for the same endpoint. Where a
// shared casebook cannot be reached, the trace waits here.
func keep(cmd *cobra.Command, which string, set fact.Set, judged trail.Trail) (id int64, err error) {
	k := casebook.Kept{
		New: which == "new",
		As: casebook.Case{
			Title:    tell.Title(judged),
			Endpoint: set.Ask.Endpoint.Input,
			First:    tell.Short(judged),
			Opened:   set.Ask.Began,
		},
		Entry: casebook.Entry{
			At:   set.Ended,
			Kind: casebook.Trace,
			Text: tell.Short(judged),
			Set:  &set,
			By:   who(),
		},
		Well: judged.Outcome == trail.OutcomeClear,
	}
	if which != "" && which != "new" {
		if k.Case, err = caseID(which); err != nil {
			return 0, err
		}
	}
	err = withBook(cmd, func(ctx context.Context, b casebook.Store) error {
		if k.Case > 0 {
			if _, err := getCase(ctx, b, which); err != nil {
				return err
			}
		}
		id, err = casebook.Keep(ctx, b, k)
		return err
	})
	// What a shared casebook does not take, for whatever reason, is not lost.
	if path, err2 := casebook.Path(); err != nil && err2 == nil && casebook.Shared(path) &&
		!errors.Is(err, casebook.ErrNone) {
		return 0, wait(cmd, k, err)
	}
	return id, err
}
