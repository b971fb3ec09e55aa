package cli

import (
	"fmt"
	"runtime"
	"slices"
	"strings"

	"uakari/internal/weigh/catalogue"

	"github.com/spf13/cobra"

	"uakari/internal/tell"
	"uakari/internal/trail"
)

func newExplain() *cobra.Command {
	color, system, asJSON := "", runtime.GOOS, false
	cmd := &cobra.Command{
		Use:   "explain [CAUSE|WORD…]",
		Short: "what a cause means, how it is proved and mended",
		Long: `Tell of one cause, as in: uakari explain ports/loopback-only; or which causes
speak of some words, as in: uakari explain timed out. Without either, list all.`,
		Args: takes(0, manyArgs, "a CAUSE or words"),
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return catalogue.CauseIDs(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error {
			on, err := colour(color, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			if system != "linux" && system != "windows" && system != runtime.GOOS {
				return fmt.Errorf("explain: --system %q: expected linux or windows", system)
			}
			if len(args) == 0 {
				return told(cmd, asJSON, explained(system, catalogue.CauseIDs()...), listCauses)
			}
			if e, ok := catalogue.Explain(args[0]); ok && len(args) == 1 {
				return told(cmd, asJSON, explained(system, e.ID), func() string { return tell.Explain(e, system, on) })
			}
			if seen, named := search(args); len(seen)+len(named) > 0 && !strings.Contains(args[0], "/") {
				return told(
					cmd,
					asJSON,
					explained(system, append(seen, named...)...),
					func() string { return tell.Found(entries(seen), entries(named)) },
				)
			}
			return fmt.Errorf(
				"explain %q: no cause is called so, and none speaks of it%s; uakari explain lists them all",
				strings.Join(args, " "),
				near(args[0]),
			)
		},
	}
	asData(cmd, &asJSON, " (uakari.causes/1)")
	cmd.Flags().StringVar(&system, "system", system, "tell the remedies for hosts that run this: linux or windows")
	cmd.Flags().StringVar(&color, "color", "auto", "auto, always or never")
	return cmd
}

// rungs is what each rung asks.
var rungs = map[string]string{
	"settings": "does the client go where it should", "service": "does the server's program run",
	"ports": "is somebody there",
	"rules": "does the packet pass, and its reply", "names": "does the name lead there", "certs": "is it who it says",
	"login": "is the account let in", "answer": "is the answer right",
}

func listCauses() string {
	var b strings.Builder
	b.WriteString(
		"A cause's page: uakari explain CAUSE. By what was seen: uakari explain WORD…, as in: uakari explain timed " +
			"out\n",
	)
	last := ""
	for _, id := range catalogue.CauseIDs() {
		rung, _, _ := strings.Cut(id, "/")
		if rung != last {
			fmt.Fprintf(&b, "\n%s: %s\n", rung, rungs[rung])
		}
		last = rung
		e, _ := catalogue.Explain(id)
		fmt.Fprintf(&b, "  %-28s %s\n", id, e.Title)
	}
	return b.String()
}

// search is the causes that speak of all of some words, those first that a
// client sees so.
func search(words []string) (seen, named []string) {
	typed := strings.ToLower(strings.Join(words, " "))
	for _, said := range []string{"timed out", "time out", "timeout", "no answer", "hangs"} {
		if typed == said {
			words = []string{"silence"} // what programs call it
		}
	}
	holds := func(text string) bool {
		text = strings.ToLower(text)
		return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, strings.ToLower(w)) })
	}
	for _, id := range catalogue.CauseIDs() {
		e, _ := catalogue.Explain(id)
		switch {
		case holds(e.Looks):
			seen = append(seen, id)
		case holds(e.ID + " " + e.Title + " " + e.Means + " " + e.Mistaken):
			named = append(named, id)
		}
	}
	return seen, named
}

func entries(ids []string) []catalogue.Entry {
	var list []catalogue.Entry
	for _, id := range ids {
		e, _ := catalogue.Explain(id)
		list = append(list, e)
	}
	return list
}

// explained is causes for other programs, with the remedies for a system.
func explained(system string, ids ...string) trail.Explained {
	out := trail.Explained{Format: "uakari.causes/1", Causes: []trail.ExplainedCause{}}
	flat := func(text string) string { return strings.Join(strings.Fields(text), " ") }
	for _, e := range entries(ids) {
		c := trail.ExplainedCause{
			ID:       e.ID,
			Title:    e.Title,
			Means:    flat(e.Means),
			Looks:    flat(e.Looks),
			Proof:    flat(e.Proof),
			Mistaken: flat(e.Mistaken),
			Remedies: []trail.Remedy{},
		}
		for _, r := range e.Remedies {
			r = r.On(system)
			c.Remedies = append(
				c.Remedies,
				trail.Remedy{Do: r.Do, Command: r.Command, Host: r.Host, Owner: r.Owner, Risk: r.Risk, Undo: r.Undo},
			)
		}
		out.Causes = append(out.Causes, c)
	}
	return out
}

// near suggests causes that share a word with what was typed: those of the same
// rung, if there are any.
func near(typed string) string {
	rung, want, ok := strings.Cut(typed, "/")
	if !ok {
		return ""
	}
	var list []string
	for _, id := range catalogue.CauseIDs() {
		if _, name, _ := strings.Cut(id, "/"); want != "" &&
			(strings.Contains(name, want) || strings.Contains(want, name)) {
			list = append(list, id)
		}
	}
	if len(list) == 0 {
		return ""
	}
	strange := func(id string) bool { return !strings.HasPrefix(id, rung+"/") }
	if own := slices.DeleteFunc(slices.Clone(list), strange); len(own) > 0 {
		list = own
	}
	return "; is it " + strings.Join(list, " or ") + "?"
}
