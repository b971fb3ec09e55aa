package cli

import (
	"github.com/spf13/cobra"
)

// rungCommands are the rungs that are a trace of one rung and nothing else.
var rungCommands = []struct{ name, short, long string }{
	{"settings", "is the client told the right thing", "Judge the settings rung of a trace alone."},
	{"login", "is this account accepted, from here", `Judge the login rung of a trace alone: one try of --user with --secret or
--identity, and no more in a run, since accounts lock. What the server says is
told, and the true reason where its log can be read (--at, or on the server).`},
	{"answer", "does the application answer rightly", "Judge the answer rung of a trace alone."},
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
				return f.run(cmd, args[0])
			},
		}
		f.addFlags(cmd)
		f.addFar(cmd)
		cmd.Flags().BoolVar(&f.json, "json", false, "write JSON")
		cmd.Flags().StringVar(&f.color, "color", "auto", "auto, always or never")
		list = append(list, cmd)
	}
	return list
}
