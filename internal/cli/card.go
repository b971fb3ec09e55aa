package cli

import (
	"bytes"
	"context"
	"errors"
	"fmt"
	"os"
	"slices"
	"strings"
	"uakari/internal/program"
	"uakari/internal/weigh/catalogue"

	"github.com/spf13/cobra"

	"uakari/internal/card"
	"uakari/internal/endpoint"
	"uakari/internal/fact"
	"uakari/internal/look/file"
	"uakari/internal/tell"
)

func newCard() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "card",
		Short: "describe an application once, and check what was described",
		Long: `A card is a YAML file that says what a healthy application looks like: its
endpoint and aliases, program and unit, ports, settings that must agree, signs
of health, the right answer. trace and the other commands take it by --card.`,
	}
	cmd.AddCommand(newCardNew(), newCardCheck(), newCardShow())
	return cmd
}

func newCardNew() *cobra.Command {
	var file string
	cmd := &cobra.Command{
		Use:   "new ENDPOINT|RECORD",
		Short: "write a first card, with a comment at every line, to go on from",
		Long: `Write a first card for an endpoint, or from a host record that was made with
--for: what runs there, its ports, unit, log and certificate files.`,
		Args: takes(1, 1, "an ENDPOINT, or a host record"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := interruptible(cmd)
			defer stop()
			c, err := draft(ctx, args[0])
			if err != nil {
				return err
			}
			if file != "" {
				if _, err := os.Stat(file); err == nil {
					return fmt.Errorf("%s is there already; nothing was written", file)
				}
			}
			return write(cmd, file, []byte(tell.CardDraft(c)))
		},
	}
	cmd.Flags().
		StringVarP(&file, "output", "o", "", "write to this `file`, which must not be there yet, instead of standard output")
	return cmd
}

// draft is what is known of an application before anybody described it.
func draft(ctx context.Context, from string) (fact.Card, error) {
	c := fact.Card{Format: card.Format}
	input := from
	var programs []fact.Program
	var listeners []fact.Listener
	if isFile(from) {
		text, err := file.Typed(ctx, from, file.MostKept)
		if err != nil {
			return c, err
		}
		r, err := fact.DecodeRecord(from, text)
		if err != nil {
			return c, err
		}
		if r.For == nil {
			return c, fmt.Errorf(
				"%s: it was not made for an endpoint; expected one of: uakari record --for ENDPOINT",
				from,
			)
		}
		input = r.For.Input
		for _, f := range r.Facts {
			if f.Service != nil {
				programs = append(programs, f.Service.Programs...)
			}
			if f.Listeners != nil {
				listeners = f.Listeners.All
			}
		}
	}
	e, err := endpoint.Parse(input)
	if err != nil {
		return c, err
	}
	c.Name, _, _ = strings.Cut(e.Host, ".")
	if _, ok := endpoint.Literal(e.Host); ok {
		c.Name = e.Scheme
	}
	c.Endpoint = fmt.Sprintf("%s://%s%s", e.Scheme, endpoint.HostPort(e.Host, e.Port), e.Path)
	c.Ports = []uint16{e.Port}
	if own := ownPrograms(e); len(own) == 1 {
		c.Program = own[0].Name
	}
	for _, p := range programs {
		if p.Path == "" {
			continue
		}
		c.Program = p.Path
		if len(p.Units) > 0 {
			c.Unit = p.Units[0].Name
		}
		if len(p.Logs) > 0 {
			c.Log = p.Logs[0].Path
		}
		for _, l := range listeners {
			if l.Program == p.Name && !l.Addr.IsLoopback() && !slices.Contains(c.Ports, l.Port) && l.Transport == "" {
				c.Ports = append(c.Ports, l.Port)
			}
		}
		break
	}
	return c, nil
}

func newCardCheck() *cobra.Command {
	return &cobra.Command{
		Use:   "check FILE…",
		Short: "find what is wrong with a card, and what of it cannot be seen from here",
		Long: `Check cards: every key and value, with file, line and column; and say what of
them this host alone cannot tell.

Exit status: 0 they are well, 2 one is not.`,
		ValidArgsFunction: yamlFiles,
		Args:              takes(1, manyArgs, "card files"),
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := interruptible(cmd)
			defer stop()
			var b bytes.Buffer
			for _, path := range args {
				c, err := new(seeing).readCard(ctx, path)
				if err != nil {
					return err
				}
				for i, r := range c.Reasons {
					if _, known := catalogue.Explain(r.Cause); !known {
						return fmt.Errorf(
							"%s: reasons: entry %d: there is no cause %q; see: uakari explain",
							path,
							i+1,
							r.Cause,
						)
					}
				}
				if c.Talk != nil {
					for i, m := range c.Talk.Means {
						if _, known := catalogue.Explain(m.Cause); !known {
							return fmt.Errorf(
								"%s: talk: means: entry %d: there is no cause %q; see: uakari explain",
								path,
								i+1,
								m.Cause,
							)
						}
					}
				}
				b.WriteString(tell.CardChecked(path, *c))
			}
			return write(cmd, "", b.Bytes())
		},
	}
}

func newCardShow() *cobra.Command {
	var color string
	cmd := &cobra.Command{
		Use:   "show FILE",
		Short: "the card as a page that one can pin to the wall",
		Args:  takes(1, 1, "a card file"), ValidArgsFunction: yamlFiles,
		RunE: func(cmd *cobra.Command, args []string) error {
			ctx, stop := interruptible(cmd)
			defer stop()
			on, err := colour(color, cmd.OutOrStdout())
			if err != nil {
				return err
			}
			c, err := new(seeing).readCard(ctx, args[0])
			if errors.Is(err, os.ErrNotExist) {
				return fmt.Errorf(
					"%s: there is no such card; write one with: uakari card new ENDPOINT -o %s",
					args[0],
					args[0],
				)
			}
			if err != nil {
				return err
			}
			return write(cmd, "", []byte(tell.CardShown(*c, on)))
		},
	}
	cmd.Flags().StringVar(&color, "color", "auto", "auto, always or never")
	return cmd
}

// ownPrograms is the programs that were tried here with an endpoint's scheme.
func ownPrograms(e fact.Endpoint) []program.Program {
	return slices.DeleteFunc(program.Known().Serving(e.Scheme), func(p program.Program) bool { return !p.Tried })
}
