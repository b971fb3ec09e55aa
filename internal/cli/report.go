package cli

import (
	"context"
	"fmt"
	"path/filepath"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/foreign"
	"uakari/internal/owned"
	"uakari/internal/tell"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

func newReport() *cobra.Command {
	var file, owner string
	cmd := &cobra.Command{
		Use:   "report CASE -o FILE.html|FILE.md|FILE.json",
		Short: "write a case as a page to hand over",
		Long: `Write one case as a page to hand to a colleague, a network team or a supplier: what
failed and why, the way and where it breaks, the ladder before and now, what was
changed, the evidence, and what could not be seen. The page is one file that
needs no other, and has no script. Look through it before you hand it on.

--for OWNER writes the request to one owner instead, as text for a ticket: what is
asked for, exactly, why, with the evidence of both ends, risk, undo, and how you
both will know that it worked. OWNER is a part of the owner's name, as in "filter"
or "zone"; --for all writes the requests to all of them, with -o DIR one file each.`,
		Example: `  uakari report 3 -o case.html
  uakari report 3 --for filter
  uakari report 3 --for all -o requests`,
		ValidArgsFunction: caseNumbers,
		Args:              ofCase(1, 1, "the number of a CASE"),
		RunE: func(cmd *cobra.Command, args []string) error {
			return withBook(cmd, func(ctx context.Context, b casebook.Store) error {
				c, err := getCase(ctx, b, args[0])
				if err != nil {
					return err
				}
				judged := judgedOf(c)
				if owner != "" {
					return requests(cmd, c, judged, owner, file)
				}
				if err := sinceIn(ctx, b, c, judged); err != nil {
					return err
				}
				text, err := reported(tell.MakeReport(c, judged, time.Now()), file)
				if err != nil {
					return err
				}
				return write(cmd, file, text)
			})
		},
	}
	cmd.Flags().
		StringVarP(&file, "output", "o", "",
			"the `file`, by whose ending the form is chosen; Markdown to standard output if not given")
	cmd.Flags().StringVar(&owner, "for", "", "write the request to this `owner` (a part of its name), or to all")
	return cmd
}

// requests writes what owners are asked for by the last trace of a case that failed.
func requests(cmd *cobra.Command, c casebook.Case, judged map[int64]trail.Trail, owner, file string) error {
	var of *trail.Trail
	for _, e := range c.Traces() {
		if t := judged[e.Number]; len(t.Mendable()) > 0 {
			of = &t
		}
	}
	if of == nil {
		return fmt.Errorf("report %d --for %s: no fix is known for this case, so nobody is asked for anything", c.ID,
			owner)
	}
	var chosen []string
	for _, name := range tell.Owners(*of) {
		if owner == "all" || strings.Contains(strings.ToLower(name), strings.ToLower(owner)) {
			chosen = append(chosen, name)
		}
	}
	if len(chosen) == 0 {
		return fmt.Errorf("report %d --for %q: expected a part of one of: %s", c.ID, owner,
			strings.Join(tell.Owners(*of), ", "))
	}
	if owner == "all" && file != "" {
		if err := owned.Folder(file); err != nil {
			return err
		}
		for i, name := range chosen {
			path := filepath.Join(file, fmt.Sprintf("case-%d-request-%d.txt", c.ID, i+1))
			if err := write(cmd, path, []byte(tell.Request(c, *of, name))); err != nil {
				return err
			}
		}
		return nil
	}
	var texts []string
	for _, name := range chosen {
		texts = append(texts, tell.Request(c, *of, name))
	}
	return write(cmd, file, []byte(strings.Join(texts, "\n")))
}

// sinceIn says of the traces of a case that failed what had changed since the
// endpoint was reached from the same client, where the casebook has that.
func sinceIn(ctx context.Context, b casebook.Store, c casebook.Case, judged map[int64]trail.Trail) error {
	for _, e := range c.Traces() {
		t := judged[e.Number]
		if t.Outcome == trail.OutcomeClear {
			continue
		}
		before, err := b.Baseline(ctx, e.Set.Ask.Endpoint.Input, clientOf(*e.Set))
		if err != nil || before == nil || !before.Ended.Before(e.At) {
			return err // what worked later is no baseline of it
		}
		t.Since = &trail.Since{
			When:    before.Ended,
			From:    "the casebook",
			Changed: append([]trail.Changed{}, weigh.Since(*before, *e.Set, t.Causes)...),
		}
		judged[e.Number] = t
		return nil
	}
	return nil
}

// reported is a report in the form that a file's name asks for.
func reported(r tell.Report, file string) ([]byte, error) {
	switch ending := filepath.Ext(file); ending {
	case ".html", ".htm":
		text, err := r.HTML()
		return []byte(text), err
	case ".json":
		return foreign.JSON(r, "  ")
	case ".md", "":
		return []byte(r.Markdown()), nil
	default:
		return nil, fmt.Errorf("-o %s: expected a file that ends in .html, .md or .json", file)
	}
}
