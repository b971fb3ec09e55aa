package cli

import (
	"os"
	"regexp"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uakari/internal/look/clientlib"
	"uakari/internal/look/sshclient"
	"uakari/internal/trail"
	"uakari/internal/weigh/catalogue"
)

// completer is what the shell is offered for a flag, by its name.
type completer = func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective)

// flagWords is the flags of which the values are known, whatever command has them.
var flagWords = map[string]completer{
	"at":             placesAt,
	"in":             roles,
	"record":         roles,
	"only":           oneOf(rungNames),
	"suspect":        oneOf(func() []string { return append(rungNames(), catalogue.CauseIDs()...) }),
	"color":          oneOf(fixed("auto", "always", "never")),
	"system":         oneOf(fixed("linux", "windows")),
	"until":          oneOf(fixed("fault", "clear")),
	"client-program": oneOf(clientlib.Known),
	"case": func(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
		numbers, directive := caseNumbers(cmd, nil, typed)
		return append([]string{"new", "none"}, numbers...), directive | cobra.ShellCompDirectiveNoFileComp
	},
}

// completing reports whether the shell asks what may come next: nobody else needs to know.
func completing() bool {
	return len(os.Args) > 1 && strings.HasPrefix(os.Args[1], cobra.ShellCompRequestCmd)
}

// completeFlags offers the values of flags for a command and those below it.
func completeFlags(cmd *cobra.Command) {
	cmd.Flags().VisitAll(func(f *pflag.Flag) {
		complete, known := flagWords[f.Name]
		if m := formats.FindStringSubmatch(f.Usage); f.Name == "out" && m != nil {
			complete, known = oneOf(fixed(strings.Split(strings.ReplaceAll(m[1], " or ", ", "), ", ")...)), true
		}
		if known {
			// It fails only for what is registered already, which stays.
			_ = cmd.RegisterFlagCompletionFunc(f.Name, complete)
		}
	})
	for _, below := range cmd.Commands() {
		completeFlags(below)
	}
}

// formats is the forms of output, as the help of a flag lists them.
var formats = regexp.MustCompile("`?format`? of the output: ((?:\\w+, )*\\w+ or \\w+)")

func fixed(words ...string) func() []string { return func() []string { return words } }

func oneOf(words func() []string) completer {
	return func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
		return words(), cobra.ShellCompDirectiveNoFileComp
	}
}

func rungNames() []string {
	var names []string
	for _, rung := range trail.Ladder {
		names = append(names, string(rung))
	}
	return names
}

// roles is the roles that a place may have; behind one of them a file or a place is typed.
func roles(_ *cobra.Command, _ []string, typed string) ([]string, cobra.ShellCompDirective) {
	if strings.Contains(typed, "=") {
		return nil, cobra.ShellCompDirectiveDefault
	}
	return []string{"client=", "server=", "gateway="}, cobra.ShellCompDirectiveNoSpace
}

// placesAt is roles, and the hosts that this user's SSH client knows by a name of their own.
func placesAt(cmd *cobra.Command, args []string, typed string) ([]string, cobra.ShellCompDirective) {
	role, _, has := strings.Cut(typed, "=")
	if has {
		role += "="
	} else {
		role = ""
	}
	var list []string
	for _, host := range sshclient.Hosts("*") {
		list = append(list, role+host)
	}
	if !has {
		own, _ := roles(cmd, args, typed)
		list = append(own, list...)
	}
	return list, cobra.ShellCompDirectiveNoSpace | cobra.ShellCompDirectiveNoFileComp
}
