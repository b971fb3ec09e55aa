package cli

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/owned"
	"uakari/internal/plan"
	"uakari/internal/sweep"
	"uakari/internal/tell"
	"uakari/internal/trace"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

// sweepFlags is what the flags of sweep say.
type sweepFlags struct {
	seeing
	out, file, color, resume string
	confirm                  string
	json                     bool
	wide                     int
	onBroker                 brokerRun
	packets                  packetFile
	lost                     error // why a row could not be kept
}

func newSweep() *cobra.Command {
	var f sweepFlags
	cmd := &cobra.Command{
		Use:   "sweep PLAN",
		Short: "trace many endpoints from many hosts, and group the failures by cause",
		Long: `Trace every endpoint of a plan (uakari.plan/1) from every client of it, side by
side, and tell the result by cause: how many clients, and what they have in common
that those that work do not have. No account is tried.

Clients are this host, hosts over SSH (one session each), records, containers,
files of hosts with tags, and patterns of hosts in ~/.ssh/config. A host that
cannot be looked at is told, and no failure of the sweep.

After a change at the origin, --confirm traces again what failed before, and says
how much of it works now.

Exit status: 0 everything is reached, 1 something is not, 2 wrong usage, 3 unsure.`,
		Args: takes(1, 1, "a PLAN"),
		RunE: func(cmd *cobra.Command, args []string) error { return f.run(cmd, args[0]) },
	}
	flags := cmd.Flags()
	flags.StringVar(&f.out, "out", "text", "`format` of the output: text, json or html")
	flags.BoolVar(&f.json, "json", false, "the same as --out json (uakari.sweep/1)")
	flags.StringVarP(&f.file, "output", "o", "", "write to this `file` instead of standard output")
	flags.StringVar(&f.color, "color", "auto", "auto, always or never")
	flags.StringVar(&f.resume, "resume", "", "keep each row in this `file`, and go on where it ends")
	flags.StringVar(&f.confirm, "confirm", "",
		"trace again what failed in this `file` of sweep --json, and say what works now")
	flags.IntVar(&f.wide, "wide", 0, "how many traces run side by side; as the plan says, or 32")
	flags.StringVar(&f.identity, "identity", "", "log in with the private key in this `file`")
	f.packets.addPackets(cmd, "the headers of the packets of what fails from here")
	f.broker.add(cmd)
	f.addLend(cmd)
	flags.BoolVar(&f.asRoot, "as-root", false, "run it there by sudo")
	flags.StringVar(&f.trust, "trust", "", "trust the certificates in this `file`, not the system's")
	flags.StringVar(&f.hosts, "hosts", "", "read this hosts `file` instead of the system's")
	flags.DurationVar(&f.deadline, "deadline", 30*time.Second, "the longest one trace may take")
	flags.DurationVar(&f.wait, "wait", 4*time.Second, "the longest wait for one connect or one resolver")
	return cmd
}

func (f *sweepFlags) run(cmd *cobra.Command, path string) error {
	if f.json {
		f.out = "json"
	}
	if !slices.Contains([]string{"text", "json", "html"}, f.out) {
		return fmt.Errorf("--out %q: expected text, json or html", f.out)
	}
	if f.wide < 0 || f.wide > 256 {
		return fmt.Errorf("--wide %d: expected a number from 1 to 256", f.wide)
	}
	on, err := colour(f.color, cmd.OutOrStdout())
	if err != nil {
		return err
	}
	ctx, stop := interruptible(cmd)
	defer stop()
	text, err := f.steering(ctx, path, plan.MostBytes)
	if err != nil {
		return err
	}
	p, err := plan.Parse(path, text)
	if err != nil {
		return err
	}
	seats, err := f.seats(ctx, p)
	if err != nil {
		return err
	}
	servers := f.servers(p.Servers)
	have, keepRow, err := f.resumed()
	if err != nil {
		return err
	}
	env, err := f.env(ctx)
	if err != nil {
		return err
	}
	env.Settle = sweepSettle
	s := trail.Sweep{
		Format:    trail.SweepFormat,
		Plan:      orPath(p.Name, path),
		Began:     time.Now().UTC(),
		Endpoints: p.Endpoints,
	}
	var jobs []sweep.Job
	byName := map[string]*seat{}
	for _, each := range seats {
		s.Clients, byName[each.name] = append(s.Clients, each.name), each
		for _, e := range p.Endpoints {
			jobs = append(jobs, sweep.Job{Client: each.name, Endpoint: e})
		}
	}
	before, err := f.failedBefore(ctx)
	if err != nil {
		return err
	}
	if before != nil {
		if jobs = stillFailing(jobs, *before); len(jobs) == 0 {
			return fmt.Errorf("%s: nothing that failed in it is in the plan %s", f.confirm, path)
		}
	}
	for _, j := range jobs {
		if _, done := have[j]; !done {
			byName[j.Client].left.Add(1)
		}
	}
	wide := p.Wide
	if f.wide > 0 {
		wide = f.wide
	}
	defer f.onBroker.close()
	if err := f.packets.beginSweep(ctx, p.Endpoints); err != nil {
		return err
	}
	progress := newSweepProgress(cmd, len(jobs))
	s.Rows = sweep.Run(ctx, jobs, bounds(wide, seats), have, func(ctx context.Context, j sweep.Job) trail.SweepRow {
		defer byName[j.Client].done()
		return f.one(ctx, byName[j.Client], servers, j, env)
	}, func(r trail.SweepRow) { keepRow(r); progress.row(r) })
	progress.end()
	for _, each := range append(seats, servers) {
		if each.shut != nil {
			each.shut()
		}
	}
	if err := f.packets.end(cmd); err != nil {
		return err
	}
	if len(s.Rows) < len(jobs) {
		s.Incomplete = fmt.Sprintf("%d of %d were done", len(s.Rows), len(jobs))
	}
	s.Ended, s.Groups = time.Now().UTC(), weigh.GroupSweep(s.Rows)
	out := []byte(tell.Sweep(s, on))
	if before != nil {
		out = []byte(tell.SweepConfirmed(*before, s, on))
	}
	switch f.out {
	case "json":
		if out, err = foreign.JSON(s, ""); err != nil {
			return err
		}
	case "html":
		out = []byte(tell.Matrix(s))
	}
	if err := write(cmd, f.file, out); err != nil {
		return err
	}
	if f.lost != nil {
		return f.lost
	}
	status := sweepStatus(s)
	if status == nil && before != nil && len(s.Rows) < failedIn(*before) {
		return exit(exitUnsure) // what the plan no longer names was not tried again
	}
	return status
}

// failedIn is how many tries of a sweep did not end well.
func failedIn(s trail.Sweep) (count int) {
	for _, r := range s.Rows {
		if r.Outcome != trail.OutcomeClear {
			count++
		}
	}
	return count
}

// bounds is how many traces run at a time: as many as is wanted from here, and four
// from each other host, whose one session they share.
func bounds(wide int, seats []*seat) sweep.Bounds {
	b := sweep.Bounds{Wide: wide, Client: map[string]int{}}
	for _, s := range seats {
		if s.here {
			b.Client[s.name] = wide
		}
	}
	return b
}

// failedBefore is the sweep that is to be confirmed; nil if there is none.
func (f *sweepFlags) failedBefore(ctx context.Context) (*trail.Sweep, error) {
	if f.confirm == "" {
		return nil, nil
	}
	text, err := f.read(ctx, f.confirm, file.MostKept)
	if err != nil {
		return nil, err
	}
	var s trail.Sweep
	if err := json.Unmarshal(text, &s); err != nil || s.Format != trail.SweepFormat {
		return nil, fmt.Errorf("%s:1:1: expected what uakari sweep --json wrote (%s)", f.confirm, trail.SweepFormat)
	}
	return &s, nil
}

// stillFailing is the jobs of what failed in a sweep.
func stillFailing(jobs []sweep.Job, before trail.Sweep) []sweep.Job {
	return slices.DeleteFunc(jobs, func(j sweep.Job) bool {
		return !slices.ContainsFunc(before.Rows, func(r trail.SweepRow) bool {
			return r.Client == j.Client && r.Endpoint == j.Endpoint && r.Outcome != trail.OutcomeClear
		})
	})
}

func orPath(name, path string) string {
	if name != "" {
		return name
	}
	return filepath.Base(path)
}

// sweepStatus is the exit status of a sweep.
func sweepStatus(s trail.Sweep) error {
	unsure := s.Incomplete != ""
	for _, r := range s.Rows {
		switch {
		case r.Outcome == trail.OutcomeFault:
			return exit(exitFault)
		case r.Outcome != trail.OutcomeClear:
			unsure = true // who could not be checked is not well, as far as anybody knows
		}
	}
	if unsure || len(s.Rows) == 0 {
		return exit(exitUnsure)
	}
	return nil
}

// one is one trace of a sweep.
func (f *sweepFlags) one(ctx context.Context, s, servers *seat, j sweep.Job, env look.Env) trail.SweepRow {
	row := trail.SweepRow{Client: j.Client, Endpoint: j.Endpoint, Features: s.tags}
	at, err := s.vantages(ctx, env)
	if err != nil {
		row.Unseen = foreign.Clean(err.Error())
		return row
	}
	beside, err := servers.vantages(ctx, env)
	if err != nil {
		row.Unseen = "a server that the plan names could not be looked at: " + foreign.Clean(err.Error())
		return row
	}
	at = append(slices.Clone(at), beside...)
	e, err := endpoint.Parse(j.Endpoint)
	if err != nil {
		row.Unseen = err.Error() // the plan was checked
		return row
	}
	ctx, cancel := context.WithTimeout(ctx, f.deadline)
	defer cancel()
	ask := fact.Ask{Endpoint: e, Began: time.Now().UTC(), WaitMS: float64(f.wait.Milliseconds()),
		Resolvers: env.Resolvers}
	set, judged := trace.Run(ctx, ask, at, nil)
	if s.here && bothWays(judged) != trail.OutcomeClear {
		f.packets.swept(set)
	}
	return rowOf(row, set, judged)
}

// rowOf is a row of a sweep with what its trace found.
func rowOf(row trail.SweepRow, set fact.Set, judged trail.Trail) trail.SweepRow {
	row.Outcome = bothWays(judged)
	row.Features = append(slices.Clone(row.Features), weigh.Features(set)...)
	if blocking := judged.Blocking(); len(blocking) > 0 {
		c := blocking[0]
		row.Cause, row.Certainty, row.Summary = c.ID, c.Certainty, c.Summary
	} else if row.Outcome != trail.OutcomeClear {
		row.Summary = tell.Short(judged)
	}
	return row
}

// resumed is the rows that a file of an earlier run has, and how one more is
// kept there.
func (f *sweepFlags) resumed() (have map[sweep.Job]trail.SweepRow, keepRow func(trail.SweepRow), err error) {
	have = map[sweep.Job]trail.SweepRow{}
	if f.resume == "" {
		return have, func(trail.SweepRow) {}, nil
	}
	out, err := owned.Append(f.resume)
	if err != nil {
		return nil, nil, fmt.Errorf("--resume: %w", err)
	}
	lines, whole := bufio.NewReaderSize(out, mostRow), int64(0)
	for n := 1; ; n++ {
		line, err := lines.ReadSlice('\n')
		if errors.Is(err, io.EOF) {
			if len(line) == 0 {
				break
			}
			// A run was ended in the middle of its last row: that is tried again.
			if err := out.Truncate(whole); err != nil || n == 1 && line[0] != '{' {
				return nil, nil, errors.Join(f.noRow(n), err)
			}
			break
		}
		r, err2 := rowIn(line)
		if err := errors.Join(err, err2); err != nil {
			return nil, nil, f.noRow(n)
		}
		whole += int64(len(line))
		if r.Unseen == "" { // a host that could not be checked is tried again
			have[sweep.Job{Client: r.Client, Endpoint: r.Endpoint}] = r
		}
	}
	encoder := json.NewEncoder(out)
	return have, func(r trail.SweepRow) {
		if err := encoder.Encode(r); err != nil && f.lost == nil {
			f.lost = fmt.Errorf("--resume %s: rows are not kept: %w", f.resume, err)
		}
	}, nil
}

func (f *sweepFlags) noRow(line int) error {
	return fmt.Errorf("--resume %s:%d:1: no row of a sweep; expected a file that --resume wrote", f.resume, line)
}

// sweepSettle is how long a sweep watches a bare connection: of ten thousand, most are
// well, and one that fails is traced by itself.
const sweepSettle = 300 * time.Millisecond

// mostRow bounds a row of a sweep, in bytes.
const mostRow = 1 << 20

// rowIn is a row as a file has it. Its text may be anybody's.
func rowIn(line []byte) (trail.SweepRow, error) {
	var r trail.SweepRow
	if err := json.Unmarshal(line, &r); err != nil {
		return r, err
	}
	known := []trail.Outcome{"", trail.OutcomeClear, trail.OutcomeFault, trail.OutcomeUnsure}
	if r.Client == "" || r.Endpoint == "" || !slices.Contains(known, r.Outcome) {
		return r, errors.New("it names no client, no endpoint or no outcome that is known")
	}
	for _, text := range []*string{&r.Client, &r.Endpoint, &r.Cause, &r.Summary, &r.Unseen} {
		*text = foreign.Clean(*text)
	}
	for i := range r.Features {
		r.Features[i] = foreign.Clean(r.Features[i])
	}
	return r, nil
}

// sweepProgress shows on a terminal how a sweep fares.
type sweepProgress struct {
	cmd           *cobra.Command
	all           int
	done, failing int
	began         time.Time
	shown         bool
}

func newSweepProgress(cmd *cobra.Command, all int) *sweepProgress {
	return &sweepProgress{cmd: cmd, all: all, began: time.Now(), shown: isTerminal(cmd.ErrOrStderr())}
}

func (p *sweepProgress) row(r trail.SweepRow) {
	p.done++
	if r.Unseen == "" && r.Outcome != trail.OutcomeClear {
		p.failing++
	}
	if !p.shown {
		return
	}
	rate := float64(p.done) / max(time.Since(p.began).Seconds(), 0.001)
	left := time.Duration(float64(p.all-p.done)/rate) * time.Second
	fmt.Fprintf(
		p.cmd.ErrOrStderr(),
		"\r%d of %d done, %d failing, %.0f a second, %s left   ",
		p.done,
		p.all,
		p.failing,
		rate,
		left.Round(time.Second),
	)
}

func (p *sweepProgress) end() {
	if p.shown {
		fmt.Fprint(p.cmd.ErrOrStderr(), "\r"+strings.Repeat(" ", 78)+"\r")
	}
}
