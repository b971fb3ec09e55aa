package cli

import (
	"errors"
	"fmt"
	"net/netip"
	"time"

	"uakari/internal/weigh/login"

	"github.com/spf13/cobra"

	"uakari/internal/tell"
)

// rungCommands are the rungs that are a trace of one rung and nothing else.
var rungCommands = []struct{ name, short, long string }{
	{"settings", "check what the client was told", "Judge the settings rung of a trace alone."},
	{
		"login",
		"check whether an account is accepted, from here",
		`Judge the login rung of a trace alone: one try of --user with --secret or
--identity, and no more in a run, since accounts lock. What the server says is
told, and the true reason where its log can be read (--at, or on the server).

Without an ENDPOINT, and with --sheet and --user, say what the sign-in policies
of the sheets hold for the account; nothing is connected to.`,
	},
	{
		"answer",
		"check whether the application answers correctly, also under load",
		`Judge the answer rung of a trace alone. --idle leaves a connection idle and uses
it again; --parallel asks from several connections at once, each number for the
time of --for. Neither is ever done unless it is asked for.`,
	},
}

func newRungs() []*cobra.Command {
	var list []*cobra.Command
	for _, r := range rungCommands {
		f := traceFlags{out: "text"}
		cmd := &cobra.Command{
			Use: r.name + " ENDPOINT", Short: r.short, Args: takes(1, 1, "one ENDPOINT"),
			Long: r.long + "\n\nExit status: as for trace.",
			RunE: func(cmd *cobra.Command, args []string) error {
				f.only = []string{r.name}
				ctx, stop := interruptible(cmd)
				defer stop()
				return f.run(ctx, cmd, args[0])
			},
		}
		if r.name == "login" {
			cmd.Use, cmd.Args = "login [ENDPOINT]", takes(0, 1, "one ENDPOINT")
			cmd.RunE = func(cmd *cobra.Command, args []string) error {
				if len(args) == 0 {
					return f.onPaper(cmd)
				}
				f.only = []string{r.name}
				ctx, stop := interruptible(cmd)
				defer stop()
				return f.run(ctx, cmd, args[0])
			}
			cmd.Flags().StringVar(&f.from, "from", "",
				"without an ENDPOINT: the `address` that the account comes from")
		}
		if r.name == "answer" {
			cmd.Flags().DurationVar(&f.idle, "idle", 0, "leave a connection idle for this long, and use it again")
			cmd.Flags().
				IntSliceVar(&f.widths, "parallel", nil,
					"`numbers` of requests side by side, one after the other: 1,4,16")
			cmd.Flags().DurationVar(&f.each, "for", 5*time.Second, "how long each number of --parallel goes on")
		}
		f.addFlags(cmd)
		f.addFar(cmd)
		asData(cmd, &f.json, "")
		cmd.Flags().StringVar(&f.color, "color", "auto", "auto, always or never")
		list = append(list, cmd)
	}
	return list
}

// onPaper says what the sheets' sign-in policies hold for an account.
func (f *traceFlags) onPaper(cmd *cobra.Command) error {
	if f.user == "" || len(f.sheets) == 0 {
		return errors.New("login: expected one ENDPOINT, or --sheet with --user; there is nothing")
	}
	try := login.SignInTry{Account: f.user, At: time.Now().UTC()}
	if f.from != "" {
		var err error
		if try.From, err = netip.ParseAddr(f.from); err != nil {
			return fmt.Errorf("--from %q: expected an address", f.from)
		}
	}
	ctx, stop := interruptible(cmd)
	defer stop()
	sheets, err := f.readSheets(ctx)
	if err != nil {
		return err
	}
	status, found := exit(exitClear), false
	for i := range sheets {
		s := &sheets[i]
		if s.SignIn == nil {
			continue
		}
		found = true
		v := login.JudgeSignIn(s, try)
		if err := write(cmd, "", []byte(tell.SignedIn(s.Name, try, v, login.SignInDoubts(s, try.At)))); err != nil {
			return err
		}
		switch {
		case v.Do == "refuse":
			status = exitFault
		case v.Unsure != "" && status == exitClear:
			status = exitUnsure
		}
	}
	if !found {
		return errors.New("login: none of the sheets has sign-in policies (sign-in:)")
	}
	if status != exitClear {
		return status
	}
	return nil
}
