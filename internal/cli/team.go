package cli

import (
	"context"
	"errors"
	"fmt"
	"os/user"
	"regexp"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// who is the account that runs this program, without its domain: who writes and
// takes cases.
func who() string {
	u, err := user.Current()
	if err != nil {
		return ""
	}
	return u.Username[strings.LastIndexByte(u.Username, '\\')+1:]
}

// wait keeps a trace here until the shared casebook can be reached, and says so.
func wait(cmd *cobra.Command, k casebook.Kept, why error) error {
	folder, err := casebook.Folder()
	if err == nil {
		err = casebook.Wait(folder, k)
	}
	if err != nil {
		return errors.Join(why, err)
	}
	_, err = fmt.Fprintf(
		cmd.ErrOrStderr(),
		"uakari: %s\nuakari: the trace waits here; hand it in later: uakari case sync\n",
		foreign.Printable(why.Error()),
	)
	return err
}

// remind says that traces wait to be handed in.
func remind(cmd *cobra.Command) error {
	folder, err := casebook.Folder()
	if err != nil {
		return err
	}
	waiting, err := casebook.Waiting(folder)
	if err != nil || waiting == 0 {
		return err
	}
	_, err = fmt.Fprintf(cmd.ErrOrStderr(), "uakari: %s here; hand in: uakari case sync\n", waitOf(waiting))
	return err
}

func waitOf(n int) string {
	if n == 1 {
		return "one trace waits"
	}
	return fmt.Sprintf("%d traces wait", n)
}

// done tells what was done to many things at once.
func done(cmd *cobra.Command, asJSON bool, d trail.Done, text string) error {
	d.Format = "uakari.done/1"
	return told(cmd, asJSON, d, func() string { return text + "\n" })
}

// doneFormat is the format of done, as the help calls it.
const doneFormat = " (uakari.done/1)"

func newCaseSync() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use: "sync", Short: "hand in the traces that a shared casebook could not take",
		Args: takes(0, 0, "nothing more"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			folder, err := casebook.Folder()
			if err != nil {
				return err
			}
			waiting, err := casebook.Waiting(folder)
			if err != nil {
				return err
			}
			if waiting == 0 {
				return done(cmd, asJSON, trail.Done{Did: "handed in"}, "Nothing waits here.")
			}
			return withBook(cmd, func(ctx context.Context, b casebook.Store) error {
				count, err := casebook.HandIn(ctx, b, folder)
				var torn *casebook.Torn
				if errors.As(err, &torn) && count == waiting {
					return fmt.Errorf("%d of %d were handed in: %w", count, waiting, err)
				}
				if err != nil {
					return fmt.Errorf("%d of %d were handed in; the others go on waiting: %w", count, waiting, err)
				}
				return done(cmd, asJSON, trail.Done{Did: "handed in", Count: count, Of: waiting},
					fmt.Sprintf("Handed in: %d of %d.", count, waiting))
			})
		},
	}
	asData(cmd, &asJSON, doneFormat)
	return cmd
}

func newCaseTake() *cobra.Command {
	asJSON, leave := false, false
	cmd := &cobra.Command{
		Use: "take CASE", ValidArgsFunction: caseNumbers, Short: "say that you work on a case",
		Args: ofCase(1, 1, "the number of a CASE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return onCase(cmd, args[0], func(ctx context.Context, b casebook.Store, c casebook.Case) error {
				var err error
				me := who()
				switch {
				case leave:
					me = ""
				case c.Taken != "" && c.Taken != me:
					_, err = fmt.Fprintf(
						cmd.ErrOrStderr(),
						"uakari: %s had it since %s\n",
						foreign.Printable(c.Taken),
						c.TakenAt.Format(time.DateTime+" MST"),
					)
				}
				return errors.Join(err, toldAfter(ctx, cmd, asJSON, b, args[0], b.Take(ctx, c.ID, me, time.Now())))
			})
		},
	}
	cmd.Flags().BoolVar(&leave, "leave", false, "nobody works on it any more")
	asData(cmd, &asJSON, caseAfter)
	return cmd
}

func newCasePrune() *cobra.Command {
	asJSON, older, keep := false, "", 0
	cmd := &cobra.Command{
		Use: "prune {--older 90d | --keep 1000}", Short: "remove closed cases that are old",
		Args: takes(0, 0, "flags alone"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			if older == "" && keep == 0 || keep < 0 {
				return errors.New("expected --older 90d, or --keep 1000, or both")
			}
			age := time.Duration(0)
			if older != "" {
				var err error
				if age, err = ageOf(older); err != nil {
					return fmt.Errorf("--older %q: %w", older, err)
				}
			}
			return withBook(cmd, func(ctx context.Context, b casebook.Store) error {
				count, err := b.Prune(ctx, time.Now().Add(-age), keep)
				if err != nil {
					return err
				}
				return done(cmd, asJSON, trail.Done{Did: "removed", Count: count, Of: count},
					fmt.Sprintf("Removed: %d closed before %s.", count,
						time.Now().Add(-age).UTC().Format(time.DateOnly)))
			})
		},
	}
	asData(cmd, &asJSON, doneFormat)
	cmd.Flags().StringVar(&older, "older", "", "remove cases that were closed longer ago than this `age`, like 90d or 36h")
	cmd.Flags().IntVar(&keep, "keep", 0, "keep this `number` of closed cases, the newest")
	return cmd
}

var days = regexp.MustCompile(`^([0-9]{1,5})d$`)

// ageOf reads a time in days, or as Go writes it.
func ageOf(text string) (time.Duration, error) {
	expected := errors.New("expected a time above zero, like 90d or 36h")
	if m := days.FindStringSubmatch(text); m != nil {
		n, err := strconv.Atoi(m[1])
		if err != nil || n == 0 {
			return 0, expected
		}
		return time.Duration(n) * 24 * time.Hour, nil
	}
	age, err := time.ParseDuration(text)
	if err != nil || age <= 0 {
		return 0, expected
	}
	return age, nil
}

func newCaseRights() *cobra.Command {
	asJSON, write := false, false
	cmd := &cobra.Command{
		Use: "rights ROLE", Short: "the statements that let a role of PostgreSQL use the shared casebook",
		Long: `Print the statements that let a role read the shared casebook or, with --write, add
to it. The owner of the database runs them; this command runs nothing.`,
		Args: takes(1, 1, "the name of a role"),
		RunE: func(cmd *cobra.Command, args []string) error {
			list := casebook.Rights(args[0], write)
			d := trail.Done{Did: "printed", Count: len(list), Of: len(list), Statements: list}
			return done(cmd, asJSON, d, strings.Join(list, "\n"))
		},
	}
	asData(cmd, &asJSON, doneFormat)
	cmd.Flags().BoolVar(&write, "write", false, "it may add to cases too, and remove them")
	return cmd
}
