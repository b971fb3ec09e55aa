// Package cli holds the commands, one file each: they read flags, call, and
// tell. Nothing is judged here.
package cli

import (
	"errors"
	"fmt"
	"io"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uakari/internal/foreign"
	"uakari/internal/trail"
	"uakari/internal/yamlfile"
)

// Exit statuses.
const (
	exitClear       = 0
	exitFault       = 1
	exitUsage       = 2
	exitUnsure      = 3
	exitInterrupted = 130
)

// exit is an error that is only a status: all there is to say was said.
type exit int

func (e exit) Error() string { return fmt.Sprintf("exit status %d", int(e)) }

// statuses is the exit status of each outcome.
var statuses = map[trail.Outcome]exit{
	trail.OutcomeClear: exitClear, trail.OutcomeFault: exitFault, trail.OutcomeUnsure: exitUnsure,
}

// ended is the exit status of an error. One that is more than a status is told,
// also where it comes together with a status.
func ended(err error, stderr io.Writer) int {
	all := []error{err}
	if several, ok := err.(interface{ Unwrap() []error }); ok {
		all = several.Unwrap()
	}
	status := exit(exitClear)
	for _, each := range all {
		var only exit
		switch {
		case each == nil:
		case errors.As(each, &only):
			if status == exitClear {
				status = only
			}
		default:
			fmt.Fprintln(stderr, "uakari: "+foreign.Printable(each.Error()))
			status = exitUsage
		}
	}
	return int(status)
}

// otherGroup is the group of what helps to use the program.
const otherGroup = "other"

// commandGroup is commands of one use, as the help lists them.
type commandGroup struct {
	id, title string
	commands  []*cobra.Command
}

func commandGroups() []commandGroup {
	return []commandGroup{
		{"find", "Find the cause", []*cobra.Command{newTrace(), newExplain(), newWatch()}},
		{"look", "Check one thing", append(
			[]*cobra.Command{newService(), newPorts(), newRules(), newNames(), newCerts()}, newRungs()...)},
		{"cases", "Cases", []*cobra.Command{newCase(), newConfirm(), newRehearse(), newReport()}},
		{"many", "Many hosts", []*cobra.Command{newSweep(), newAttend()}},
		{"write", "Write down", []*cobra.Command{newRecord(), newDiffer(), newCard(), newSheet()}},
		{otherGroup, "Other", []*cobra.Command{newDemo(), newConfig(), newVersion()}},
	}
}

// firstLines is what somebody reads who types the name of the program alone.
const firstLines = `A client cannot reach …:   uakari trace ENDPOINT        a URL, HOST:PORT, or a host
It says "…":               uakari explain "MESSAGE"
Check this host:           uakari ports; uakari service UNIT
Many hosts:                uakari sweep PLAN.yaml
Try the demo:              uakari demo                  (all commands: uakari help)
`

// newRoot builds the command tree.
func newRoot() *cobra.Command {
	quiet := false
	root := &cobra.Command{
		Use:   "uakari",
		Short: "find out why a client cannot reach a server application, and how to fix it",
		Long: `Uakari finds out why this client cannot reach that server application, and names
the smallest safe change that fixes it. It changes nothing by itself.`,
		Example: `  uakari trace https://tidebook.varzea.example/
  uakari trace ledger:5432
  uakari explain "Connection refused"
  uakari demo`,
		PersistentPreRunE: func(cmd *cobra.Command, _ []string) error {
			if cmd.Hidden {
				return nil // not for people
			}
			return configure(cmd, quiet)
		},
		SilenceUsage:  true,
		SilenceErrors: true,
		Args: func(cmd *cobra.Command, args []string) error {
			if len(args) > 0 {
				return fmt.Errorf("unknown command %q%s; uakari help lists them", args[0], nearest(cmd, args[0]))
			}
			return nil
		},
		RunE: func(cmd *cobra.Command, _ []string) error {
			_, err := fmt.Fprint(cmd.OutOrStdout(), firstLines)
			return err
		},
	}
	root.SetFlagErrorFunc(misspelt)
	root.PersistentFlags().BoolVar(&quiet, "quiet", false, "write nothing but errors: the exit status says it")
	for _, group := range commandGroups() {
		root.AddGroup(&cobra.Group{ID: group.id, Title: group.title + ":"})
		for _, cmd := range group.commands {
			cmd.GroupID = group.id
			root.AddCommand(cmd)
		}
	}
	root.AddCommand(newLook(), newStandIn()) // hidden: for the program itself
	root.SetHelpCommandGroupID(otherGroup)
	root.SetCompletionCommandGroupID(otherGroup)
	root.CompletionOptions.HiddenDefaultCmd = true
	if completing() {
		completeFlags(root)
	}
	return root
}

// nearest suggests the command that a misspelt one was meant to be.
func nearest(root *cobra.Command, typed string) string {
	var names []string
	for _, c := range root.Commands() {
		if !c.Hidden {
			names = append(names, c.Name())
		}
	}
	return yamlfile.Meant(typed, 1, names)
}

// misspelt adds to the error of a flag that is not known which one was meant.
func misspelt(cmd *cobra.Command, err error) error {
	_, typed, ok := strings.Cut(err.Error(), "unknown flag: --")
	if !ok {
		return err
	}
	var names []string
	cmd.Flags().VisitAll(func(f *pflag.Flag) { names = append(names, f.Name) })
	return fmt.Errorf("%w%s", err, yamlfile.Meant(typed, 2, names))
}

// manyArgs is more arguments than anybody gives.
const manyArgs = 1 << 20

// takes is a check of how many arguments a command was given, in words that
// say what was expected.
func takes(least, most int, what string) cobra.PositionalArgs {
	return func(cmd *cobra.Command, args []string) error {
		switch {
		case len(args) < least:
			return fmt.Errorf("%s: expected %s; there is nothing", cmd.Name(), what)
		case len(args) > most:
			return fmt.Errorf("%s: expected %s; there is %q too", cmd.Name(), what, args[most])
		}
		return nil
	}
}
