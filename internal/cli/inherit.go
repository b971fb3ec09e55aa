package cli

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// inherited are the flags of a kept trace that say how to look: from where, by
// whose trust, as whom. What is given again goes first.
var inherited = []string{
	"at",
	"in",
	"record",
	"lend",
	"as-root",
	"identity",
	"certificate",
	"secret",
	"shared-secret",
	"user",
	"in-the-clear",
	"resolver",
	"trust",
	"hosts",
	"unit",
	"wait",
	"broker",
	"broker-login",
	"broker-trust",
	"order-key",
	"answers-from",
}

// inherit takes over how a kept trace looked from its command line, if this
// user's own casebook kept it. Of another it says what to give again.
func (s *seeing) inherit(cmd *cobra.Command, from kept) error {
	if from.foreign {
		fmt.Fprintln(
			cmd.ErrOrStderr(),
			"uakari: this was not kept in your own casebook: only its endpoint is taken over. "+
				"Give again what it needs: --card, --trust, --user with --secret, --at, --record, --unit",
		)
		return nil
	}
	command := from.set.Ask.Command
	words, err := shellWords(command)
	if err != nil {
		return fmt.Errorf("the kept command (%s): %w", command, err)
	}
	var was seeing
	before := &cobra.Command{FParseErrWhitelist: cobra.FParseErrWhitelist{UnknownFlags: true}}
	was.addFlags(before)
	was.addFar(before)
	if err := before.ParseFlags(words); err != nil {
		return fmt.Errorf("the kept command (%s): %w", command, err)
	}
	before.Flags().Visit(func(flag *pflag.Flag) {
		own := cmd.Flags().Lookup(flag.Name)
		if err != nil || own == nil || own.Changed || !slices.Contains(inherited, flag.Name) {
			return
		}
		if list, ok := flag.Value.(pflag.SliceValue); ok {
			err = own.Value.(pflag.SliceValue).Replace(list.GetSlice())
			return
		}
		err = own.Value.Set(flag.Value.String())
	})
	return err
}

var errQuote = errors.New("a quote that does not end")

// shellWords splits a command as a POSIX shell would that knows no more than
// quotes: what [foreign.ShellWord] wrote.
func shellWords(command string) ([]string, error) {
	var words []string
	var word strings.Builder
	begun := false
	for i := 0; i < len(command); i++ {
		switch c := command[i]; {
		case c == ' ':
			if begun {
				words = append(words, word.String())
			}
			word.Reset()
			begun = false
		case c == '\'':
			end := strings.IndexByte(command[i+1:], '\'')
			if end < 0 {
				return nil, errQuote
			}
			word.WriteString(command[i+1 : i+1+end])
			i += end + 1
			begun = true
		case c == '\\' && i+1 < len(command):
			i++
			word.WriteByte(command[i])
			begun = true
		default:
			word.WriteByte(c)
			begun = true
		}
	}
	if begun {
		words = append(words, word.String())
	}
	return words, nil
}
