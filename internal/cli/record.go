package cli

import (
	"errors"
	"fmt"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"uakari/internal/casebook"
	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look/host"
	"uakari/internal/owned"
	"uakari/internal/trace"
	"uakari/internal/trail"
	"uakari/internal/vantage"
)

// recordFlags is what the flags of record say.
type recordFlags struct {
	seeing
	endpoint, client, account, file string
	baseline, asJSON, paste, small  bool
	printCommand                    bool
}

func newRecord() *cobra.Command {
	var f recordFlags
	cmd := &cobra.Command{
		Use:   "record [--for ENDPOINT]",
		Short: "write down what this host shows, for a trace from the other side",
		Long: `Write this host's record: addresses, routes, listeners with their owners, units,
processes, settings of the kernel and, with --for, what this host sees when it
tries the endpoint itself. Carry the file to the other side and give it there:

  uakari trace ENDPOINT --record server=FILE

Where only text can be copied, --paste writes lines of 76 columns. --small keeps
them few. Paste them on the other side:

  uakari trace ENDPOINT --record server=-

--print-command, typed at the client, prints the one line to type on the server's
console, and does nothing else.

With --baseline it is kept here, as what this host is like while it is well, in
place of the last one: "uakari differ baseline FILE" and "--since baseline" then
say what changed. That is cheap: logs and accounts are left out.

It holds no secrets, private keys or password hashes; look through it before you
hand it on all the same. It is readable by its owner only.`,
		Args: takes(0, 0, "flags alone"),
		RunE: func(cmd *cobra.Command, _ []string) error { return f.run(cmd) },
	}
	f.addFlags(cmd)
	cmd.Flags().StringVar(&f.endpoint, "for", "", "the `endpoint` that a client cannot reach")
	cmd.Flags().StringVar(&f.client, "client", "", "the `address` of that client")
	cmd.Flags().StringVar(&f.account, "user", "", "of the service's accounts, the state of this `account` alone")
	cmd.Flags().
		StringVarP(&f.file, "output", "o", "",
			"write to this `file`; HOST.uakari.json if not given, - for standard output")
	cmd.Flags().BoolVar(&f.paste, "paste", false,
		"write text that can be copied from a console, to standard output")
	cmd.Flags().BoolVar(&f.small, "small", false, "with --paste: leave out what does not bear on the endpoint")
	cmd.Flags().BoolVar(&f.printCommand, "print-command", false,
		"print the line to type on the other side's console, and do nothing else")
	cmd.Flags().BoolVar(&f.baseline, "baseline", false, "keep it as what this host is like while it is well")
	asData(cmd, &f.asJSON, " (uakari.recorded/1: what was written; the record itself is JSON always)")
	return cmd
}

func (f *recordFlags) run(cmd *cobra.Command) error {
	ctx, stop := interruptible(cmd)
	defer stop()
	if f.printCommand {
		return f.printed(cmd)
	}
	var more []fact.Order
	if f.client != "" {
		addr, err := netip.ParseAddr(f.client)
		if err != nil {
			return fmt.Errorf("--client %q: expected an IP address", f.client)
		}
		// The way back to the client, as this host's kernel has it.
		more = append(
			more,
			fact.Order{Look: fact.LookRoute, Target: fact.Target{Addr: addr}},
			fact.Order{Look: fact.LookLink, Target: fact.Target{Addr: addr}},
		)
	}
	if f.endpoint == "" && f.unit != "" {
		more = append(more, fact.Order{Look: fact.LookService})
	}
	var ask *fact.Ask
	env, err := f.env(ctx)
	if err == nil && f.endpoint != "" {
		var a fact.Ask
		if a, env, err = f.ask(ctx, f.endpoint); err == nil {
			a.Account, env.Account = f.account, f.account
			ask = &a
		}
	}
	if err != nil {
		return err
	}
	env.Deep = !f.baseline
	if f.baseline {
		casebook.KeepMarkKey()
	}
	ctx, cancel := until(ctx, cmd, f.deadline)
	defer cancel()
	at := here(env, true)
	p := newProgress(cmd.ErrOrStderr())
	r := trace.Record(ctx, at[0], ask, more, at[1:])
	p.stop()
	text, err := foreign.JSON(r, " ")
	if err != nil {
		return err
	}
	if f.baseline {
		return f.keepBaseline(cmd, r, text)
	}
	if f.paste {
		return errors.Join(f.pasted(cmd, r), interrupted(r.Incomplete))
	}
	if f.file == "-" && f.asJSON {
		return errors.New("record: -o - writes the record itself, which is JSON; give a file with --json")
	}
	if f.file == "-" {
		return errors.Join(write(cmd, "", text), interrupted(r.Incomplete))
	}
	file := f.file
	if file == "" {
		file = strings.ReplaceAll(r.Host, "/", "_") + ".uakari.json"
		err = writeWhole(cmd, file, text)
	} else {
		err = write(cmd, file, text)
	}
	if err != nil {
		return err
	}
	err = told(cmd, f.asJSON, recordedOf(r, file), func() string { return recorded(r, file) + "\n" })
	return errors.Join(err, interrupted(r.Incomplete))
}

// printed writes the line by which the other side makes the record that a trace from here
// takes as pasted text.
func (f *recordFlags) printed(cmd *cobra.Command) error {
	if f.endpoint == "" {
		return errors.New("record --print-command: expected --for ENDPOINT")
	}
	e, err := endpoint.Parse(f.endpoint)
	if err != nil {
		return err
	}
	words := []string{"uakari", "record", "--paste", "--small", "--for", foreign.ShellWord(f.endpoint)}
	client := f.client
	if client == "" {
		client = ownTowards(e.Host, e.Port)
	}
	if client != "" {
		words = append(words, "--client", foreign.ShellWord(client))
	}
	if f.account != "" {
		words = append(words, "--user", foreign.ShellWord(f.account))
	}
	return write(cmd, "", []byte(strings.Join(words, " ")+"\n"))
}

// ownTowards is the address of this host that a packet to a host would come from; "" where
// that is not known. Nothing is sent: the kernel chooses it for a socket of datagrams.
func ownTowards(host string, port uint16) string {
	dialer := net.Dialer{Timeout: 2 * time.Second}
	conn, err := dialer.Dial("udp", net.JoinHostPort(host, strconv.Itoa(int(port))))
	if err != nil {
		return ""
	}
	defer conn.Close()
	if at, ok := conn.LocalAddr().(*net.UDPAddr); ok && !at.IP.IsLoopback() {
		return at.IP.String()
	}
	return ""
}

// keepBaseline keeps a record in the folder of this user's state.
func (f *recordFlags) keepBaseline(cmd *cobra.Command, r fact.HostRecord, text []byte) error {
	if f.file != "" {
		return errors.New("record: --baseline keeps it in its own place; --output is for one that is carried away")
	}
	if r.Incomplete != "" {
		return fmt.Errorf("record: it was cut off (%s), and is no baseline", r.Incomplete)
	}
	path, err := baselinePath()
	if err != nil {
		return err
	}
	if err := owned.Folder(filepath.Dir(path)); err != nil {
		return err
	}
	if err := writeWhole(cmd, path, text); err != nil {
		return err
	}
	kept := recordedOf(r, path)
	kept.Baseline = true
	return told(cmd, f.asJSON, kept, func() string {
		return fmt.Sprintf("Kept: what %s is like while it is well, in %s.\nLater: uakari record -o now.json && "+
			"uakari differ baseline now.json\n", foreign.Printable(r.Host), foreign.Printable(path))
	})
}

// baselinePath is where this host's own record is kept.
func baselinePath() (string, error) {
	folder, err := casebook.Folder()
	if err != nil {
		return "", err
	}
	return filepath.Join(folder, "baseline.uakari.json"), nil
}

// interrupted is the exit status of what was cut off, by the user or the deadline.
func interrupted(incomplete string) error {
	switch incomplete {
	case "":
		return nil
	case "interrupted":
		return exit(exitInterrupted)
	}
	return exit(exitUnsure)
}

// recordedOf is what a record holds.
func recordedOf(r fact.HostRecord, file string) trail.Recorded {
	of := trail.Recorded{Format: "uakari.recorded/1", Host: r.Host, File: file, Incomplete: r.Incomplete}
	for _, f := range r.Facts {
		if f.Failed != nil {
			of.Unseen++
		}
	}
	of.Facts = len(r.Facts) - of.Unseen
	return of
}

// recorded says what was written and what to do with it.
func recorded(r fact.HostRecord, file string) string {
	of := recordedOf(r, file)
	text := fmt.Sprintf("Recorded %s: %d facts in %s", r.Host, of.Facts, file)
	if of.Unseen > 0 {
		text += fmt.Sprintf("; %d things could not be seen, mostly for want of root", of.Unseen)
	}
	if r.Incomplete != "" {
		text += "; it was cut off (" + r.Incomplete + "), and is not whole"
		var missing []string
		for _, f := range r.Facts {
			if f.Failed != nil && f.Failed.CutOff && !slices.Contains(missing, string(f.Order.Look)) {
				missing = append(missing, string(f.Order.Look))
			}
		}
		if len(missing) > 0 {
			text += "; missing: " + strings.Join(missing, ", ")
		}
	}
	endpoint := "ENDPOINT"
	if r.For != nil {
		endpoint = r.For.Input
	}
	return text + ".\nOn the other side: uakari trace " + endpoint + " --record server=" + file
}

func newLook() *cobra.Command {
	inside := ""
	cmd := &cobra.Command{
		Use: "look", Hidden: true, Args: takes(0, 1, "one word"),
		Short: "look from here for a program at the other end of standard input",
		RunE: func(cmd *cobra.Command, args []string) error {
			if inside != "" {
				return host.Inside(cmd.Context(), inside, []string{"look"}, cmd.InOrStdin(), cmd.OutOrStdout(),
					cmd.ErrOrStderr())
			}
			if len(args) == 1 && args[0] == "lent" {
				if self, err := os.Executable(); err == nil {
					os.Remove(self) // it runs on; the shell that started it removes the rest
				}
			}
			inside := len(args) == 1 && args[0] == "inside"
			if inside {
				if err := host.Settle(); err != nil {
					return fmt.Errorf("look: %w", err)
				}
			}
			return vantage.Serve(cmd.Context(), hostname(), inside, cmd.InOrStdin(), cmd.OutOrStdout())
		},
	}
	cmd.Flags().StringVar(&inside, "in", "", "look from this container or namespace")
	return cmd
}
