package cli

import (
	"fmt"
	"strings"
	"uakari/internal/weigh/catalogue"

	"github.com/spf13/cobra"

	"uakari/internal/tell"
)

func newExplain() *cobra.Command {
	color := ""
	cmd := &cobra.Command{
		Use:   "explain [CAUSE]",
		Short: "what a cause means, how it is proved and mended",
		Long:  "Tell of one cause, as in: uakari explain ports/loopback-only. Without a cause, list all.",
		Args:  takes(0, 1, "one CAUSE"),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return catalogue.CauseIDs(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			on, err := colour(color, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			if len(args) == 0 {
				return write(cmd, "", []byte(listCauses()))
			}
			e, ok := catalogue.Explain(args[0])
			if !ok {
				return fmt.Errorf("explain %q: no such cause%s; uakari explain lists them all", args[0], near(args[0]))
			}
			return write(cmd, "", []byte(tell.Explain(e, on)))
		},
	}
	cmd.Flags().StringVar(&color, "color", "auto", "auto, always or never")
	return cmd
}

func listCauses() string {
	var b strings.Builder
	last := ""
	for _, id := range catalogue.CauseIDs() {
		rung, _, _ := strings.Cut(id, "/")
		if last != "" && rung != last {
			b.WriteByte('\n')
		}
		last = rung
		e, _ := catalogue.Explain(id)
		fmt.Fprintf(&b, "%-28s %s\n", id, e.Title)
	}
	return b.String()
}

// near suggests causes that share a word with what was typed.
func near(typed string) string {
	var list []string
	for _, id := range catalogue.CauseIDs() {
		_, name, _ := strings.Cut(id, "/")
		_, want, ok := strings.Cut(typed, "/")
		if !ok {
			want = typed
		}
		if want != "" && (strings.Contains(name, want) || strings.Contains(want, name)) {
			list = append(list, id)
		}
	}
	if len(list) == 0 {
		return ""
	}
	return "; is it " + strings.Join(list, " or ") + "?"
}
