package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"

	"uakari/internal/program"
	"uakari/internal/weigh/catalogue"

	"github.com/spf13/cobra"

	"uakari/internal/card"
	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/tell"
	"uakari/internal/trace"
	"uakari/internal/trail"
	"uakari/internal/weigh"
)

func newCard() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "card",
		Short: "describe an application once, and check the description",
		Long: `A card is a YAML file that says what a healthy application looks like: its
endpoint and aliases, program and unit, ports, settings that must agree, signs
of health, the right answer. trace and the other commands take it by --card.`,
	}
	cmd.AddCommand(newCardNew(), newCardCheck(), newCardShow())
	return cmd
}

// cardFlags is what the flags of card new say.
type cardFlags struct {
	seeing
	file string
}

func newCardNew() *cobra.Command {
	var f cardFlags
	cmd := &cobra.Command{
		Use:   "new ENDPOINT|RECORD",
		Short: "write a first card of what is seen of a healthy application, to go on from",
		Long: `Write a first card, with a comment at every line, of what is seen: other names
in the certificate and, where the server can be looked at (--at, --record, here,
or a host record in place of the ENDPOINT), its program, unit, ports, log,
certificate files, the place of its port in its settings, and what is behind it.
Nothing is invented: what was not seen stands in a comment.`,
		Args: takes(1, 1, "an ENDPOINT, or a host record"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := interruptible(cmd)
			defer stop()
			if f.file != "" {
				if _, err := os.Stat(f.file); err == nil {
					return fmt.Errorf("%s is there already; nothing was written", f.file)
				}
			}
			d, err := f.draft(ctx, cmd, args[0])
			if err != nil {
				return err
			}
			for _, note := range d.Notes {
				fmt.Fprintf(cmd.ErrOrStderr(), "uakari: %s\n", note)
			}
			return write(cmd, f.file, []byte(tell.CardDraft(d.Card)))
		},
	}
	f.addFlags(cmd)
	f.addFar(cmd)
	cmd.Flags().
		StringVarP(&f.file, "output", "o", "",
			"write to this `file`, which must not be there yet, instead of standard output")
	return cmd
}

// draft is what is seen of an application before anybody described it.
func (f *cardFlags) draft(ctx context.Context, cmd *cobra.Command, from string) (card.Drafted, error) {
	if isFile(from) {
		r, err := f.readRecord(ctx, from)
		if err != nil {
			return card.Drafted{}, err
		}
		if r.For == nil {
			return card.Drafted{}, fmt.Errorf(
				"%s: it was not made for an endpoint; expected one of: uakari record --for ENDPOINT",
				from,
			)
		}
		e, err := endpoint.Parse(r.For.Input)
		if err != nil {
			return card.Drafted{}, err
		}
		return card.Draft(e, r.Facts, "", ownProgram(e)), nil
	}
	ask, env, err := f.ask(ctx, from)
	if err != nil {
		return card.Drafted{}, err
	}
	set, err := f.seen(ctx, cmd, ask, env)
	if err != nil {
		return card.Drafted{}, err
	}
	return card.Draft(ask.Endpoint, set.Facts, serverOf(set), ownProgram(ask.Endpoint)), nil
}

// seen is all that is seen of an endpoint from both ends.
func (s *seeing) seen(ctx context.Context, cmd *cobra.Command, ask fact.Ask, env look.Env) (fact.Set, error) {
	ctx, cancel := until(ctx, cmd, s.deadline)
	defer cancel()
	at, done, err := s.vantages(ctx, env, weigh.First(ask.Endpoint))
	defer done()
	if err != nil {
		return fact.Set{}, err
	}
	p := newProgress(cmd.ErrOrStderr())
	defer p.stop()
	set, _ := trace.Run(ctx, ask, at, p.watch)
	wants := []fact.Order{
		{Look: fact.LookListeners},
		{Look: fact.LookService, Target: fact.Target{Port: ask.Endpoint.Port, Scheme: ask.Endpoint.Scheme,
			Name: ask.Endpoint.Host}},
		{Look: fact.LookCertFiles, Target: fact.Target{Port: ask.Endpoint.Port}},
		{Look: fact.LookUpstreams, Target: fact.Target{Port: ask.Endpoint.Port}},
	}
	for _, v := range at {
		for _, order := range wants {
			if v.Info().Role == fact.Server && ctx.Err() == nil {
				v.Look(ctx, order, func(f fact.Fact) { set.Facts = append(set.Facts, f) })
			}
		}
	}
	return set, nil
}

// ownProgram is the program that alone was tried here with an endpoint's scheme.
func ownProgram(e fact.Endpoint) string {
	own := slices.DeleteFunc(program.Known().Serving(e.Scheme), func(p program.Program) bool { return !p.Tried })
	if len(own) != 1 {
		return ""
	}
	return own[0].Name
}

func newCardCheck() *cobra.Command {
	var f cardFlags
	asJSON := false
	cmd := &cobra.Command{
		Use:   "check FILE…",
		Short: "find what is wrong with a card, and where it and the hosts do not agree",
		Long: `Check cards: every key and value, with file, line and column; and say what of
them this host alone cannot tell. With --at or --record a card is compared with
the hosts: its program, unit, ports, certificate files, what is behind it, its
settings and signs.

Exit status: 0 they are well, 1 one does not agree with its host, 2 one is not
well.`,
		ValidArgsFunction: yamlFiles,
		Args:              takes(1, manyArgs, "card files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := interruptible(cmd)
			defer stop()
			var b bytes.Buffer
			out := trail.Checked{Format: "uakari.checked/1", Files: []trail.CheckedFile{}}
			agree := true
			for _, path := range args {
				c, err := new(seeing).readCard(ctx, path)
				if err != nil {
					return err
				}
				if err := knownCauses(path, c); err != nil {
					return err
				}
				b.WriteString(tell.CardChecked(path, *c))
				out.Files = append(out.Files, trail.CheckedFile{Path: path, Name: c.Name, Doubts: []string{},
					Differs: []string{}})
				if len(f.at)+len(f.records)+len(f.in) == 0 {
					continue
				}
				differ, err := f.compare(ctx, cmd, path, c)
				if err != nil {
					return err
				}
				agree = agree && len(differ) == 0
				out.Files[len(out.Files)-1].Differs = append([]string{}, differ...)
				b.WriteString(tell.CardCompared(differ))
			}
			if err := told(cmd, asJSON, out, b.String); err != nil || agree {
				return err
			}
			return exit(exitFault)
		},
	}
	f.addFlags(cmd)
	f.addFar(cmd)
	asData(cmd, &asJSON, " (uakari.checked/1)")
	for _, name := range []string{"card", "sheet"} { // the card is the argument
		cmd.Flags().Lookup(name).Hidden = true
	}
	return cmd
}

// knownCauses wants the causes that a card names to be those of the catalogue.
func knownCauses(path string, c *fact.Card) error {
	known := func(part string, i int, cause string) error {
		if _, ok := catalogue.Explain(cause); ok {
			return nil
		}
		return fmt.Errorf("%s: %s: entry %d: there is no cause %q; see: uakari explain", path, part, i+1, cause)
	}
	for i, r := range c.Reasons {
		if err := known("reasons", i, r.Cause); err != nil {
			return err
		}
	}
	if c.Talk != nil {
		for i, m := range c.Talk.Means {
			if err := known("talk: means", i, m.Cause); err != nil {
				return err
			}
		}
	}
	return nil
}

// compare is where a card and its hosts do not agree.
func (f *cardFlags) compare(ctx context.Context, cmd *cobra.Command, path string, c *fact.Card) ([]string, error) {
	if c.Endpoint == "" {
		return nil, fmt.Errorf("%s:1:1: the card names no endpoint, by which it could be compared with a host", path)
	}
	s := f.seeing
	s.card, s.known = path, c
	ask, env, err := s.ask(ctx, c.Endpoint)
	if err != nil {
		return nil, err
	}
	set, err := s.seen(ctx, cmd, ask, env)
	if err != nil {
		return nil, err
	}
	return card.Compare(*c, card.Draft(ask.Endpoint, set.Facts, serverOf(set), ""), set.Facts), nil
}

// serverOf is the vantage of the server; none where nobody looked there: what
// the client's own host runs is not the application.
func serverOf(set fact.Set) string {
	found := "nobody"
	for _, at := range set.Vantages {
		if at.Role == fact.Server &&
			(found == "nobody" || !at.Implied) { // one that was named comes before one that was not
			found = at.ID
		}
	}
	return found
}

func newCardShow() *cobra.Command {
	return newShow(shownFile{
		short: "the card as a page that one can pin to the wall", of: "a card file",
		format: "uakari.card/1", folder: func() string { return shared().Cards }, most: card.MostBytes,
		page: func(ctx context.Context, path string, on bool) (string, error) {
			c, err := new(seeing).readCard(ctx, path)
			if errors.Is(err, os.ErrNotExist) {
				return "", fmt.Errorf("%s: there is no such card; write one with: uakari card new ENDPOINT -o %s",
					path, path)
			}
			if err != nil {
				return "", err
			}
			return tell.CardShown(*c, on), nil
		},
	})
}
