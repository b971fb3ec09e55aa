package cli

import (
	"context"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look/file"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// kept is a run that was kept. One that this user's own casebook kept may be
// done again as it was done. What came from elsewhere is data: its endpoint is
// looked at, and nothing that it says reads a file or a variable, presents an
// account, or logs in anywhere.
type kept struct {
	set     fact.Set
	foreign bool
}

// disarmed is a set of which nothing would be done that only its maker may ask
// for. What it says stays, and is weighed.
func disarmed(set fact.Set) fact.Set {
	set.Ask.Command = "uakari trace " + foreign.ShellWord(set.Ask.Endpoint.Input)
	return set
}

// keptOf is a set of a case.
func keptOf(c casebook.Case, set fact.Set) kept {
	if c.Foreign {
		return kept{disarmed(set), true}
	}
	return kept{set, false}
}

// keptFile is the set of a file.
func (s *seeing) keptFile(ctx context.Context, path string) (kept, error) {
	text, err := s.read(ctx, path, file.MostKept)
	if err != nil {
		return kept{}, err
	}
	set, err := fact.DecodeSet(path, text)
	return kept{disarmed(set), true}, err
}

// keptSet is the facts in a file or, for a number, of the last trace of that
// case.
func (s *seeing) keptSet(ctx context.Context, cmd *cobra.Command, where string) (kept, error) {
	if _, err := caseID(where); err != nil || isFile(where) {
		return s.keptFile(ctx, where)
	}
	c, err := tracedCase(cmd, where)
	if err != nil {
		return kept{}, err
	}
	traces := c.Traces()
	return keptOf(c, *traces[len(traces)-1].Set), nil
}

// failing is the facts to compare with: those of a file, or of the last trace
// of a case that failed.
func (s *seeing) failing(ctx context.Context, cmd *cobra.Command, where string) (kept, error) {
	if _, err := caseID(where); err != nil || isFile(where) {
		return s.keptFile(ctx, where)
	}
	c, err := tracedCase(cmd, where)
	if err != nil {
		return kept{}, err
	}
	set := *c.Traces()[0].Set
	account := ""
	for _, e := range c.Traces() {
		if judged, _ := weigh.Weigh(*e.Set); bothWays(judged) != trail.OutcomeClear {
			set = *e.Set
		}
		if e.Set.Ask.Account != "" {
			account = e.Set.Ask.Account
		}
	}
	// An account belongs to the case, also where a run left it out.
	if set.Ask.Account == "" {
		set.Ask.Account = account
	}
	return keptOf(c, set), nil
}
