package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"os"
	"path/filepath"
	"runtime"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/demo"
	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/tell"
	"uakari/internal/trace"
	"uakari/internal/trail"
	"uakari/internal/vantage"
	"uakari/internal/weigh"
)

// demoFlags is what the flags of demo say.
type demoFlags struct {
	list, asJSON bool
	stay, report string
	color        string
}

func newDemo() *cobra.Command {
	var f demoFlags
	cmd := &cobra.Command{
		Use:   "demo [CHAPTER…]",
		Short: "play a full example in a made-up world, without a network",
		Long: `Build a small made-up world on loopback addresses, break it, trace, fix it,
and confirm it, chapter by chapter. Nothing outside a temporary folder is
touched, and no privilege is needed.`,
		ValidArgsFunction: func(*cobra.Command, []string, string) ([]string, cobra.ShellCompDirective) {
			return chapterNames(), cobra.ShellCompDirectiveNoFileComp
		},
		RunE: func(cmd *cobra.Command, args []string) error { return f.run(cmd, args) },
	}
	cmd.Flags().BoolVar(&f.list, "list", false, "list the chapters")
	cmd.Flags().
		StringVar(&f.stay, "stay", "", "keep the broken world up, with its files in this `folder`, to try by hand")
	cmd.Flags().StringVar(&f.report, "report", "", "write a report of every chapter's case into this `folder`")
	cmd.Flags().StringVar(&f.color, "color", "auto", "auto, always or never")
	asData(cmd, &f.asJSON, " (uakari.demo/1)")
	return cmd
}

func chapterNames() []string {
	var names []string
	for _, c := range demo.Chapters {
		names = append(names, c.Name)
	}
	return names
}

func (f *demoFlags) run(cmd *cobra.Command, args []string) error {
	out := cmd.OutOrStdout()
	on, err := colour(f.color, out)
	if err != nil {
		return err
	}
	story := trail.Story{Format: "uakari.demo/1", Chapters: []trail.Chapter{}}
	if f.list {
		text := ""
		for _, c := range demo.Chapters {
			text += fmt.Sprintf("%-10s %s\n", c.Name, c.Title)
			story.Chapters = append(story.Chapters, trail.Chapter{Name: c.Name, Title: c.Title})
		}
		return told(cmd, f.asJSON, story, func() string { return text })
	}
	if runtime.GOOS != "linux" && runtime.GOOS != "windows" {
		return errors.New("demo: the made-up world needs Linux or Windows, where every address of 127.0.0.0/8 is " +
			"this host's")
	}
	chapters, err := chosenChapters(args)
	if err != nil {
		return err
	}
	ctx, stop := interruptible(cmd)
	defer stop()
	if f.stay != "" {
		return stay(ctx, out, f.stay, chapters)
	}
	dir, err := os.MkdirTemp("", "varzea-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(dir)
	world, err := demo.Up(dir)
	if err != nil {
		return err
	}
	defer world.Down()
	book, err := casebook.Open(ctx, filepath.Join(dir, "casebook.db"))
	if err != nil {
		return err
	}
	defer book.Done()
	if f.asJSON {
		out = io.Discard
	}
	err = tellStory(ctx, out, world, book, chapters, on, func(c demo.Chapter, asTold bool) {
		story.Chapters = append(story.Chapters, trail.Chapter{Name: c.Name, Title: c.Title, AsTold: &asTold})
	})
	if f.report != "" && err == nil {
		err = f.reports(ctx, out, book)
	}
	if f.asJSON {
		err = errors.Join(told(cmd, true, story, nil), err)
	}
	return err
}

// reports writes a page for every case of the story.
func (f *demoFlags) reports(ctx context.Context, out io.Writer, book casebook.Store) error {
	list, err := book.List(ctx, casebook.Wanted{})
	if err != nil {
		return err
	}
	if err := os.MkdirAll(f.report, 0o755); err != nil {
		return err
	}
	for _, c := range list {
		whole, err := book.Get(ctx, c.ID)
		if err != nil {
			return err
		}
		page, err := tell.MakeReport(whole, judgedOf(whole), time.Now()).HTML()
		if err != nil {
			return err
		}
		if err := os.WriteFile(filepath.Join(f.report, fmt.Sprintf("case-%d.html", c.ID)), []byte(page),
			0o644); err != nil {
			return err
		}
	}
	fmt.Fprintf(out, "\n%d reports are in %s.\n", len(list), f.report)
	return nil
}

func chosenChapters(names []string) ([]demo.Chapter, error) {
	if len(names) == 0 {
		return demo.Playable(), nil
	}
	var list []demo.Chapter
	for _, name := range names {
		c, ok := demo.Find(name)
		if !ok {
			return nil, fmt.Errorf("demo: no chapter %q; expected one of %s", name, strings.Join(chapterNames(), ", "))
		}
		list = append(list, c)
	}
	return list, nil
}

// tellStory plays the chapters. Its exit status says whether every fault was
// found, and found fixed.
func tellStory(
	ctx context.Context,
	out io.Writer,
	world *demo.World,
	book casebook.Store,
	chapters []demo.Chapter,
	colour bool,
	told func(c demo.Chapter, asTold bool),
) error {
	failed := 0
	for i, c := range chapters {
		if i > 0 {
			fmt.Fprintln(out)
		}
		ok, err := tellChapter(
			ctx,
			out,
			world,
			book,
			c,
			fmt.Sprintf("Chapter %d of %d: %s", i+1, len(chapters), c.Title),
			colour,
		)
		if ctx.Err() != nil {
			return exit(exitInterrupted)
		}
		if err != nil {
			return err
		}
		told(c, ok)
		if !ok {
			failed++
		}
	}
	if failed > 0 {
		fmt.Fprintf(out, "\n%d of %d chapters did not end as they should.\n", failed, len(chapters))
		return exit(exitFault)
	}
	return nil
}

func tellChapter(
	ctx context.Context,
	out io.Writer,
	world *demo.World,
	book casebook.Store,
	c demo.Chapter,
	head string,
	colour bool,
) (bool, error) {
	defer world.StopAll()
	yesterday, err := beforeIt(ctx, world, c)
	if err == nil {
		err = errors.Join(world.PutFiles(c.Files), world.Age(c.Old), world.Set(c.Broken))
	}
	if err != nil {
		return false, err
	}
	fmt.Fprint(out, tell.Heading(head, c.Story, colour))
	if c.Stations > 0 {
		return tellStations(ctx, out, world, c, colour)
	}
	seen, before, err := traceChapter(ctx, world, c, c.Endpoint, world.Hosts(c), "gauge-07", nil)
	if err != nil || ctx.Err() != nil {
		return false, err
	}
	command := "uakari trace "
	if yesterday != nil {
		before.Since = sinceRun(*yesterday, seen, before, "")
	}
	if c.Other != "" {
		command += "--at client=gauge-07 --at client=" + c.Other + " "
		good, works, err := traceChapter(ctx, world, c, c.Endpoint, healthyHosts(world), c.Other, nil)
		if err != nil {
			return false, err
		}
		before.Since = sinceRun(good, seen, before, c.Other)
		fmt.Fprint(out, tell.Prompt(command+c.Flags("")+c.Endpoint, colour))
		fmt.Fprint(out, tell.Answer(before, colour)+tell.Answer(works, colour)+"\n")
	} else {
		fmt.Fprint(out, tell.Prompt(command+c.Flags("")+c.Endpoint, colour))
	}
	rehearsed := weigh.Rehearse(seen)
	if len(before.Mendable()) > 1 {
		before.Foreseen = tell.ForeseenLine(rehearsed)
	}
	fmt.Fprint(out, tell.Text(before, colour))
	found := slices.Equal(blockingIDs(before), c.Finds)
	if c.Mends == "" {
		return found && before.Reached == trail.Yes, nil
	}
	if len(c.Behind) > 0 {
		found = found && len(before.Behind) == 1 && slices.Equal(blockingIDs(before.Behind[0].Trail), c.Behind)
	}
	kept, err := book.Open(
		ctx,
		casebook.Case{
			Title:    tell.Title(before),
			Endpoint: c.Endpoint,
			First:    tell.Short(before),
			Opened:   seen.Ask.Began,
		},
		casebook.Entry{At: seen.Ended, Kind: casebook.Trace, Text: tell.Short(before), Set: &seen},
	)
	if err != nil {
		return false, err
	}
	if c.Rehearsed {
		fmt.Fprint(out, tell.Prompt(fmt.Sprintf("uakari rehearse %d", kept.ID), colour))
		fmt.Fprint(out, tell.Rehearsal(rehearsed, colour)+"\n")
		found = found && rehearsed.Clears && len(rehearsed.Steps) == len(c.Finds)
	}
	if c.Requested {
		fmt.Fprint(out, tell.Prompt(fmt.Sprintf("uakari report %d --for all", kept.ID), colour))
		owners := tell.Owners(before)
		for _, owner := range owners {
			fmt.Fprint(out, tell.Request(kept, before, owner)+"\n")
		}
		found = found && len(owners) > 1
	}
	if c.Tries != "" {
		if err := world.PutFiles(c.TriedFiles); err != nil {
			return false, err
		}
		closing, err := confirmChapter(ctx, out, world, book, c, kept, seen, c.Tries, colour)
		if err != nil || len(closing.Wider) == 0 {
			return false, err
		}
	}
	if err := errors.Join(world.PutFiles(c.MendedFiles), world.Set(c.Mended)); err != nil {
		return false, err
	}
	closing, err := confirmChapter(ctx, out, world, book, c, kept, seen, c.Mends, colour)
	return found && closing.After > 0, err
}

// confirmChapter confirms a case of a chapter after something was changed, and
// closes it if it works and nothing lets more in than before.
func confirmChapter(
	ctx context.Context,
	out io.Writer,
	world *demo.World,
	book casebook.Store,
	c demo.Chapter,
	kept casebook.Case,
	before fact.Set,
	changed string,
	colour bool,
) (tell.Closing, error) {
	closing := tell.Closing{Case: kept.ID}
	note := casebook.Entry{At: time.Now(), Kind: casebook.Change, Text: "the administrator " + changed}
	if err := book.Add(ctx, kept.ID, note); err != nil {
		return closing, err
	}
	fmt.Fprint(out, tell.Aside("The administrator "+changed+", and has it confirmed.", colour))
	fmt.Fprint(out, tell.Prompt(fmt.Sprintf("uakari confirm %d", kept.ID), colour))
	seen, after, err := traceChapter(ctx, world, c, c.Plain(), healthyHosts(world), "gauge-07", &before)
	if err != nil {
		return closing, err
	}
	fmt.Fprint(out, tell.Answer(after, colour))
	entry := casebook.Entry{At: seen.Ended, Kind: casebook.Trace, Text: tell.Short(after), Set: &seen}
	if err := book.Add(ctx, kept.ID, entry); err != nil || bothWays(after) != trail.OutcomeClear {
		return closing, err
	}
	was, _ := weigh.Weigh(before)
	closing.Wider, closing.Narrow = weigh.Wider(before, seen), narrowOf(was)
	if len(closing.Wider) == 0 {
		if err := book.Close(ctx, kept.ID, time.Now()); err != nil {
			return closing, err
		}
		closing.After = max(time.Second, time.Since(kept.Opened))
	}
	fmt.Fprint(out, tell.Closed(closing, colour))
	return closing, nil
}

// tellStations sweeps from the stations of a chapter, of which those of one image
// have its hosts file, and confirms what failed once that is fixed.
func tellStations(ctx context.Context, out io.Writer, world *demo.World, c demo.Chapter, colour bool) (bool, error) {
	sweepOf := func(hosts string, of func(image string) bool) (trail.Sweep, error) {
		s := trail.Sweep{
			Format: trail.SweepFormat, Plan: "stations.yaml", Began: time.Now().UTC(), Endpoints: []string{c.Endpoint},
		}
		for i := range c.Stations {
			image := "kiosk-2"
			if i%5 == 1 || i%5 == 3 {
				image = "kiosk-3"
			}
			if !of(image) {
				continue
			}
			file := healthyHosts(world)
			if image == "kiosk-3" {
				file = hosts
			}
			client := fmt.Sprintf("gauge-%02d", i+1)
			set, judged, err := traceChapter(ctx, world, c, c.Endpoint, file, client, nil)
			if err != nil {
				return s, err
			}
			s.Clients = append(s.Clients, client)
			s.Rows = append(s.Rows, rowOf(trail.SweepRow{
				Client: client, Endpoint: c.Endpoint, Features: []string{"image: " + image},
			}, set, judged))
		}
		s.Ended, s.Groups = time.Now().UTC(), weigh.GroupSweep(s.Rows)
		return s, nil
	}
	before, err := sweepOf(world.Hosts(c), func(string) bool { return true })
	if err != nil {
		return false, err
	}
	fmt.Fprint(out, tell.Prompt("uakari sweep stations.yaml", colour)+tell.Sweep(before, colour))
	fmt.Fprint(out, tell.Aside("The administrator "+c.Mends+", and has it confirmed.", colour))
	after, err := sweepOf(healthyHosts(world), func(image string) bool { return image == "kiosk-3" })
	if err != nil {
		return false, err
	}
	fmt.Fprint(out, tell.Prompt("uakari sweep --confirm before.json stations.yaml", colour))
	fmt.Fprint(out, tell.SweepConfirmed(before, after, colour))
	found := len(before.Groups) == 1 && slices.Equal([]string{before.Groups[0].Cause}, c.Finds)
	return found && sweepStatus(after) == nil, nil
}

// healthyHosts is a hosts file that says nothing.
func healthyHosts(world *demo.World) string { return filepath.Join(world.Dir, "hosts-healthy") }

// beforeIt is the trace of a chapter's endpoint while it still worked, where the
// chapter has one.
func beforeIt(ctx context.Context, world *demo.World, c demo.Chapter) (*fact.Set, error) {
	if !c.Yesterday {
		return nil, nil
	}
	if err := errors.Join(world.PutFiles(c.MendedFiles), world.Set(c.Mended)); err != nil {
		return nil, err
	}
	set, _, err := traceChapter(ctx, world, c, c.Endpoint, healthyHosts(world), "gauge-07", nil)
	return &set, err
}

func blockingIDs(t trail.Trail) []string {
	var ids []string
	for _, c := range t.Blocking() {
		ids = append(ids, c.ID)
	}
	return ids
}

// traceChapter traces as gauge-07 would, from within the made-up world.
func traceChapter(
	ctx context.Context,
	world *demo.World,
	c demo.Chapter,
	input, hosts, client string,
	before *fact.Set, // that this one confirms; nil: none
) (fact.Set, trail.Trail, error) {
	e, err := endpoint.Parse(input)
	if err != nil {
		return fact.Set{}, trail.Trail{}, err
	}
	card, err := world.Card(c)
	if err != nil {
		return fact.Set{}, trail.Trail{}, err
	}
	ctx, cancel := context.WithTimeout(ctx, 30*time.Second)
	defer cancel()
	env := look.Env{
		Wait:      2 * time.Second,
		Resolvers: []netip.AddrPort{world.Resolver()},
		HostsFile: hosts,
		Trust:     world.Trust(),
		Card:      card,
	}
	if c.Secret != "" {
		if env.Secret, err = (&seeing{secret: "file:" + filepath.Join(world.Dir, c.Secret)}).readSecret(ctx,
			true); err != nil {
			return fact.Set{}, trail.Trail{}, err
		}
	}
	sheets, err := world.Sheets(c)
	if err != nil {
		return fact.Set{}, trail.Trail{}, err
	}
	ask := fact.Ask{
		Sheets:    sheets,
		Endpoint:  e,
		Account:   c.Account,
		Began:     time.Now().UTC(),
		Card:      card,
		Resolvers: env.Resolvers,
		WaitMS:    2000,
	}
	at := []trace.Vantage{
		vantage.NewHere(fact.Vantage{ID: "v1", Role: fact.Client, Host: client, Means: fact.Here}, env),
		vantage.NewHere(
			fact.Vantage{ID: "v2", Role: fact.Server, Host: c.Service, Means: fact.Here, Implied: true},
			env,
		),
	}
	set, _ := trace.Run(ctx, ask, at, nil)
	set = trace.Follow(ctx, set, at, nil)
	if before != nil {
		set = trace.Filters(ctx, set, *before, at)
	}
	judged, _ := weigh.Weigh(set)
	return set, judged, nil
}

// stay keeps the broken world up until it is interrupted, and says how to
// trace each chapter by hand.
func stay(ctx context.Context, out io.Writer, dir string, chapters []demo.Chapter) error {
	dir, err := filepath.Abs(dir)
	if err != nil {
		return err
	}
	world, err := demo.Up(dir)
	if err != nil {
		return err
	}
	defer world.Down()
	fmt.Fprintf(out, "The world is up, broken, with its files in %s. Try, from another terminal:\n", dir)
	for _, c := range chapters {
		if err := world.Set(c.Broken); err != nil {
			return err
		}
		fmt.Fprintf(out, "\n%s\n  uakari trace --resolver %s --trust %s --hosts %s --card %s %s%s\n",
			c.Title, world.Resolver(), world.Trust(), world.Hosts(c), world.CardFile(c), c.Flags(dir), c.Endpoint)
	}
	if _, err := demo.WriteFiles(dir); err != nil {
		return err
	}
	fmt.Fprintf(out, "\nRules of a host and of a cloud, judged on paper\n  cd %s\n", dir)
	for _, try := range ruleTries {
		fmt.Fprintln(out, "  uakari rules "+try)
	}
	fmt.Fprintln(out, "\nCtrl-C ends it.")
	<-ctx.Done()
	return nil
}

// ruleTries are what the sheet and the saved tables of the world are for.
var ruleTries = []string{
	"--tables tidebook.rules --from 10.20.7.31 --to 10.20.0.14:443",
	"--tables tidebook.rules --from 10.20.7.31 --to 10.20.0.14:443 --suppose '-I web 2 -s 10.20.7.0/24 -j ACCEPT'",
	"--sheet office.sheet.yaml --from 10.20.7.31 --to 10.20.0.14:443",
}

func newStandIn() *cobra.Command {
	return &cobra.Command{
		Use: "stand-in FILE", Hidden: true, Args: takes(1, 1, "a FILE"),
		Short: "one stand-in server of the demo",
		RunE: func(cmd *cobra.Command, args []string) error {
			err := demo.RunStandIn(args[0], cmd.InOrStdin(), cmd.OutOrStdout())
			if err != nil {
				fmt.Fprintln(cmd.OutOrStdout(), err) // to the one who waits for "ready"
			}
			return err
		},
	}
}
