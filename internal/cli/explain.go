package cli

import (
	"cmp"
	"errors"
	"fmt"
	"io"
	"runtime"
	"slices"
	"strings"

	"uakari/internal/weigh/catalogue"
	"uakari/internal/yamlfile"

	"github.com/spf13/cobra"

	"uakari/internal/message"
	"uakari/internal/settingsfile"
	"uakari/internal/tell"
	"uakari/internal/trail"
)

func newExplain() *cobra.Command {
	color, system, asJSON, all := "", runtime.GOOS, false, false
	cmd := &cobra.Command{
		Use:   "explain [CAUSE|TEXT…|-]",
		Short: "explain an error message, or a cause, its proof and its fix",
		Long: `Paste the message that a client shows, in quotes, or a whole log on standard
input (-): every known message and code in it is explained, with the causes that
give it and the first command to type. A CAUSE prints its page, other words the
causes that they describe. Without arguments all causes are listed.`,
		Example: `  uakari explain "connection to server at ledger, port 5432 failed: Connection refused"
  uakari explain "error 18456, state 38"
  journalctl -u tide-relay | uakari explain -
  uakari explain ports/loopback-only`,
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
				return told(cmd, asJSON, explained(system, e.ID),
					func() string { return tell.Explain(e, system, all, on) })
			}
			text, err := quotedText(cmd, args)
			if err != nil {
				return err
			}
			if found := message.Find(text); len(found) > 0 {
				endpoint := message.Endpoint(text, found)
				out := explained(system, message.Causes(found)...)
				out.Endpoint = endpoint
				for _, f := range found {
					out.Messages = append(out.Messages, trail.ExplainedMessage{Says: f.Quoted, Library: f.Library,
						Means: f.Means, Causes: f.Causes})
				}
				return told(cmd, asJSON, out, func() string { return tell.Messages(found, endpoint, all) })
			}
			if list := search(strings.Fields(text)); len(list) > 0 && !strings.Contains(args[0], "/") {
				return told(cmd, asJSON, explained(system, list...),
					func() string { return tell.Found(entries(list), all) })
			}
			if args[0] == "-" {
				return errors.New("explain -: no message in this text is known; uakari explain WORD… searches the causes")
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
	cmd.Flags().BoolVar(&all, "all", false, "list every cause, message and remedy, not only the most frequent")
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

// quotedText is what somebody was shown: the arguments, or standard input, in whatever way
// it is encoded.
func quotedText(cmd *cobra.Command, args []string) (string, error) {
	if len(args) != 1 || args[0] != "-" {
		return strings.Join(args, " "), nil
	}
	const most = 8 << 20 // bytes
	text, err := io.ReadAll(io.LimitReader(cmd.InOrStdin(), most))
	if err != nil {
		return "", fmt.Errorf("explain: standard input: %w", err)
	}
	return settingsfile.Decode(text), nil
}

// search is the causes that speak of all of some words, the most frequent first: those that
// more messages with these words mean, and mean earlier.
func search(words []string) []string {
	typed := strings.ToLower(strings.Join(words, " "))
	for _, said := range []string{"silence", "timed out", "time out", "timeout", "no answer", "hangs"} {
		if typed == said { // the catalogue's word for it, and that of messages
			words, typed = []string{"silence"}, "timed out"
			break
		}
	}
	holds := func(text string) bool {
		text = strings.ToLower(text)
		return !slices.ContainsFunc(words, func(w string) bool { return !strings.Contains(text, strings.ToLower(w)) })
	}
	score := map[string]float64{}
	for _, m := range message.All() {
		if strings.Contains(strings.ToLower(m.Says), typed) || holds(m.Means) {
			for i, id := range m.Causes {
				score[id] += 1 / float64(i+1)
			}
		}
	}
	var list []string
	for _, id := range catalogue.CauseIDs() {
		e, _ := catalogue.Explain(id)
		switch {
		case holds(e.Looks):
			score[id]++ // a client sees it so
		case score[id] == 0 && !holds(e.ID+" "+e.Title+" "+e.Means+" "+e.Mistaken):
			continue
		}
		list = append(list, id)
	}
	slices.SortStableFunc(list, func(a, b string) int { return cmp.Compare(score[b], score[a]) })
	return list
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
	if meant := yamlfile.Meant(typed, 2, catalogue.CauseIDs()); meant != "" {
		return meant
	}
	rung, want, ok := strings.Cut(typed, "/")
	if !ok {
		return yamlfile.Meant(typed, 2, causeNames())
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

// causeNames is the names of all causes without their rungs.
func causeNames() []string {
	var list []string
	for _, id := range catalogue.CauseIDs() {
		_, name, _ := strings.Cut(id, "/")
		list = append(list, name)
	}
	return list
}
