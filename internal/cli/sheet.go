package cli

import (
	"bytes"
	"context"
	"fmt"
	"os"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/fact"
	"uakari/internal/look/file"
	"uakari/internal/sheet"
	"uakari/internal/tell"
	"uakari/internal/trail"
	"uakari/internal/weigh/login"
	"uakari/internal/weigh/rules"
)

func newSheet() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "sheet",
		Short: "write down the rules of devices that cannot be asked, and check them",
		Long: `A sheet is a YAML file with what stands between clients and servers and no host
can be asked for: groups and lists of a cloud, policies of a cluster, routes,
scopes, sign-in rules, how machines stand. trace, rules and login take it by
--sheet.`,
	}
	cmd.AddCommand(newSheetNew(), newSheetCheck(), newSheetShow())
	return cmd
}

func newSheetNew() *cobra.Command {
	var output, from, name string
	cmd := &cobra.Command{
		Use:   "new",
		Short: "write a first sheet, to go on from, or one from what others export",
		Long: `Write a first sheet with a comment at every part; or, with --from, one from an
export in an open form, told apart by what is in it:

  objects of a cluster (YAML or JSON): network policies, services, endpoint
    slices, pods, namespaces, ingresses
  security groups, ports, subnets and routers of a cloud (JSON of OpenStack's
    networking API)
  a table of rules (CSV) with columns such as layer, direction, action, source,
    destination, protocol, port, name, guards

What could not be taken over stands in comments at the head, and on standard
error. Nothing is invented.`,
		Args: takes(0, 0, "no arguments"),
		RunE: func(cmd *cobra.Command, _ []string) error {
			ctx, stop := interruptible(cmd)
			defer stop()
			if output != "" {
				if _, err := os.Stat(output); err == nil {
					return fmt.Errorf("%s is there already; nothing was written", output)
				}
			}
			if from == "" {
				return write(cmd, output, []byte(tell.SheetDraft))
			}
			text, err := file.Typed(ctx, from, sheet.MostBytes)
			if err != nil {
				return err
			}
			s, notes, err := sheet.From(from, text)
			if err != nil {
				return err
			}
			if name != "" {
				s.Name = name
			}
			made := tell.SheetText(*s, notes)
			if _, err := sheet.Parse(from+", as a sheet", []byte(made)); err != nil {
				return err // what the export says is no sheet: a wrong address in it, say
			}
			for _, note := range notes {
				fmt.Fprintf(cmd.ErrOrStderr(), "uakari: %s\n", note)
			}
			return write(cmd, output, []byte(made))
		},
	}
	cmd.Flags().
		StringVarP(&output, "output", "o", "",
			"write to this `file`, which must not be there yet, instead of standard output")
	cmd.Flags().StringVar(&from, "from", "", "make it from this export: a `file`")
	cmd.Flags().StringVar(&name, "name", "", "what to call the sheet")
	return cmd
}

func newSheetCheck() *cobra.Command {
	asJSON := false
	cmd := &cobra.Command{
		Use:   "check FILE…",
		Short: "find what is wrong with a sheet, and rules that do nothing",
		Long: `Check sheets: every key and value, with file, line and column; rules that can
never match, that quarrel, that shut out every administrator, or that ask
programs for what only people have.

Exit status: 0 they are well, 2 one is not.`,
		ValidArgsFunction: yamlFiles,
		Args:              takes(1, manyArgs, "sheet files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := interruptible(cmd)
			defer stop()
			var b bytes.Buffer
			out := trail.Checked{Format: "uakari.checked/1", Files: []trail.CheckedFile{}}
			for _, path := range args {
				s, err := readSheet(ctx, path)
				if err != nil {
					return err
				}
				doubts := sheetDoubts(s)
				b.WriteString(tell.SheetChecked(path, *s, doubts))
				out.Files = append(
					out.Files,
					trail.CheckedFile{Path: path, Name: s.Name, Doubts: append([]string{}, doubts...),
						Differs: []string{}},
				)
			}
			return told(cmd, asJSON, out, b.String)
		},
	}
	asData(cmd, &asJSON, " (uakari.checked/1)")
	return cmd
}

func newSheetShow() *cobra.Command {
	return newShow(shownFile{
		short: "the sheet as a page for people, its rules numbered as remedies name them", of: "a sheet file",
		format: "uakari.sheet/1", folder: func() string { return shared().Sheets }, most: sheet.MostBytes,
		page: func(ctx context.Context, path string, on bool) (string, error) {
			s, err := readSheet(ctx, path)
			if err != nil {
				return "", err
			}
			return tell.SheetShown(*s, sheetDoubts(s), time.Now(), on), nil
		},
	})
}

func readSheet(ctx context.Context, path string) (*fact.Sheet, error) {
	path = inFolder(shared().Sheets, path)
	text, err := file.Typed(ctx, path, sheet.MostBytes)
	if err != nil {
		return nil, err
	}
	return sheet.Parse(path, text)
}

// sheetDoubts is what is odd about a sheet by itself.
func sheetDoubts(s *fact.Sheet) []string {
	list := rules.LayerDoubts(s)
	if s.SignIn != nil {
		list = append(list, login.SignInDoubts(s, time.Now())...)
	}
	return list
}
