package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	"uakari/internal/foreign"
	"uakari/internal/look/file"
	"uakari/internal/tell"
	"uakari/internal/yamlfile"
)

// configFormat names the format of the configuration file.
const configFormat = "uakari.config/1"

// config is what the user wants whenever nothing else is said.
type config struct {
	Format string `yaml:"format"`
	// Flags is the defaults of flags by their name, of every command that has
	// one; Commands, those of one command alone.
	Flags    map[string]any            `yaml:"flags"`
	Commands map[string]map[string]any `yaml:"commands"`
	// Cards, Sheets and Programs are folders, such as a checkout that a team
	// shares: a card or a sheet is found there by its name alone, and all
	// programs of the folder are known.
	Cards    string `yaml:"cards"`
	Sheets   string `yaml:"sheets"`
	Programs string `yaml:"programs"`
}

// perRun is the flags that belong to one run alone.
var perRun = []string{"help", "output", "facts", "replay", "list", "stay", "packets"}

// configPath is where the user's configuration is: UAKARI_CONFIG, or uakari.yaml
// in the folder of configurations; "" where the system has none.
func configPath() string {
	if path := os.Getenv("UAKARI_CONFIG"); path != "" {
		return path
	}
	folder, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(folder, "uakari", "uakari.yaml")
}

// readConfig reads the configuration; a file that is not there is an empty one,
// unless the user named it.
func readConfig() (config, string, error) {
	path := configPath()
	if path == "" {
		return config{}, "", nil
	}
	if err := file.Steers(path); err != nil {
		return config{}, path, err
	}
	text, err := file.Typed(context.Background(), path, file.MostSettings)
	if errors.Is(err, fs.ErrNotExist) && os.Getenv("UAKARI_CONFIG") == "" {
		return config{}, path, nil
	}
	if err != nil {
		return config{}, path, err
	}
	c := config{}
	if err := yamlfile.Decode(path, text, &c); err != nil {
		return c, path, err
	}
	if c.Format != configFormat {
		return c, path, fmt.Errorf("%s:1:1: format %q; expected %q", path, c.Format, configFormat)
	}
	return c, path, nil
}

// wanted is the value of a flag where the command line says nothing, and where
// that comes from: the environment, or the configuration, of a command first.
func (c config) wanted(cmd *cobra.Command, flag *pflag.Flag, path string) (values []string, from string) {
	name := "UAKARI_" + strings.ToUpper(strings.ReplaceAll(flag.Name, "-", "_"))
	if text, set := os.LookupEnv(name); set {
		return []string{text}, name
	}
	for _, each := range []struct {
		flags map[string]any
		where string
	}{{c.Commands[commandName(cmd)], path + ", commands." + commandName(cmd)}, {c.Flags, path + ", flags"}} {
		value, ok := each.flags[flag.Name]
		if !ok {
			continue
		}
		if list, many := value.([]any); many {
			for _, v := range list {
				values = append(values, fmt.Sprint(v))
			}
			return values, each.where
		}
		return []string{fmt.Sprint(value)}, each.where
	}
	return nil, ""
}

// commandName is a command without the program: "case list".
func commandName(cmd *cobra.Command) string {
	_, name, _ := strings.Cut(cmd.CommandPath(), " ")
	return name
}

// configure gives flags that the command line does not have their values from
// the environment and the configuration, and hushes what is to be quiet.
func configure(cmd *cobra.Command, quiet bool) error {
	c, path, err := readConfig()
	if err != nil {
		return err
	}
	if err := c.check(cmd.Root(), path); err != nil {
		return err
	}
	var wrong error
	cmd.Flags().VisitAll(func(flag *pflag.Flag) {
		if flag.Changed || slices.Contains(perRun, flag.Name) || flag.Hidden {
			return
		}
		values, from := c.wanted(cmd, flag, path)
		for _, value := range values {
			// It is not marked as changed: the command that traces the same
			// again names what was typed.
			if err := flag.Value.Set(value); err != nil && wrong == nil {
				wrong = fmt.Errorf("%s: %s %q: %w", from, flag.Name, value, err)
			}
		}
	})
	if columns := columnsOf(cmd.OutOrStdout()); columns > 0 {
		tell.Fit(columns)
	}
	if quiet {
		cmd.SetOut(io.Discard)
		cmd.SetErr(struct{ io.Writer }{cmd.ErrOrStderr()}) // no terminal: no progress
	}
	return wrong
}

// check wants every flag and command of a configuration to be there.
func (c config) check(root *cobra.Command, path string) error {
	known := map[string][]string{} // the commands that have a flag
	var commands []string
	var walk func(*cobra.Command)
	walk = func(cmd *cobra.Command) {
		name := commandName(cmd)
		commands = append(commands, name)
		cmd.Flags().VisitAll(func(f *pflag.Flag) { known[f.Name] = append(known[f.Name], name) })
		for _, sub := range cmd.Commands() {
			walk(sub)
		}
	}
	walk(root)
	wrong := func(part, flag string) error {
		if slices.Contains(perRun, flag) {
			return fmt.Errorf("%s: %s: %s belongs to one run and has no default", path, part, flag)
		}
		return fmt.Errorf("%s: %s: no flag is called %q; uakari help lists them", path, part, flag)
	}
	if err := c.ownWords(path); err != nil {
		return err
	}
	for flag := range c.Flags {
		if known[flag] == nil || slices.Contains(perRun, flag) {
			return wrong("flags", flag)
		}
	}
	for name, flags := range c.Commands {
		if !slices.Contains(commands, name) {
			return fmt.Errorf("%s: commands: no command is called %q; uakari help lists them", path, name)
		}
		for flag := range flags {
			if !slices.Contains(known[flag], name) || slices.Contains(perRun, flag) {
				return wrong("commands."+name, flag)
			}
		}
	}
	return nil
}

// ownOnly is the flags by which a secret goes somewhere, or this program does: they are
// never taken from a folder that others fill.
var ownOnly = []string{
	"secret", "shared-secret", "identity", "certificate", "at", "in-the-clear", "broker", "broker-login", "order-key",
	"as-root", "lend", "trust", "broker-trust", "answers-from",
}

// ownWords refuses a configuration that lies in a folder which it calls shared, and says where
// secrets go.
func (c config) ownWords(path string) error {
	for _, folder := range []string{c.Cards, c.Sheets, c.Programs} {
		if folder == "" || !within(atHome(folder), path) {
			continue
		}
		for _, flag := range ownOnly {
			_, all := c.Flags[flag]
			for _, flags := range c.Commands {
				_, one := flags[flag]
				all = all || one
			}
			if all {
				return fmt.Errorf("%s: flags: %s is not taken from the shared folder %s; expected it in a file outside "+
					"of it", path, flag, folder)
			}
		}
	}
	return nil
}

// within reports whether a file lies below a folder, by the places that links lead to.
func within(folder, path string) bool {
	real := func(path string) string {
		if to, err := filepath.EvalSymlinks(path); err == nil {
			path = to
		}
		if whole, err := filepath.Abs(path); err == nil {
			path = whole
		}
		return path
	}
	below, err := filepath.Rel(real(folder), real(path))
	return err == nil && below != ".." && !strings.HasPrefix(below, ".."+string(filepath.Separator))
}

// inFolder is a file of a shared folder that was named without its path: the
// card "tidebook" is tidebook.yaml there. What is a file by itself stays it.
func inFolder(folder, name string) string {
	if folder == "" || name == "" || strings.ContainsRune(name, filepath.Separator) || isFile(name) {
		return name
	}
	for _, end := range []string{"", ".yaml", ".yml"} {
		if path := filepath.Join(atHome(folder), name+end); isFile(path) {
			return path
		}
	}
	return name
}

// atHome puts the user's home in place of "~/".
func atHome(path string) string {
	rest, ok := strings.CutPrefix(path, "~/")
	if home, err := os.UserHomeDir(); ok && err == nil {
		return filepath.Join(home, rest)
	}
	return path
}

// shared is the folders that a team shares; a configuration that cannot be read
// was refused before.
func shared() config {
	c, _, err := readConfig()
	if err != nil {
		return config{}
	}
	return c
}

func newConfig() *cobra.Command {
	cmd := &cobra.Command{
		Use:   "config",
		Short: "show where each setting comes from",
		Long: `Defaults of flags come from the environment (UAKARI_WAIT for --wait) and from
uakari.yaml in the folder of configurations, or the file that UAKARI_CONFIG
names; the command line comes first, then the environment, then the file:

  format: uakari.config/1
  flags: {wait: 2s, resolver: [10.20.0.2]}
  commands: {trace: {deadline: 1m}}
  cards: ~/team/cards          # --card tidebook is tidebook.yaml there
  sheets: ~/team/sheets
  programs: ~/team/programs    # all of them are known`,
	}
	cmd.AddCommand(newConfigShow())
	return cmd
}

// setting is one flag as it holds.
type setting struct {
	Command string `json:"command"`
	Flag    string `json:"flag"`
	Value   string `json:"value"`
	From    string `json:"from"`
}

func newConfigShow() *cobra.Command {
	asJSON, all := false, false
	cmd := &cobra.Command{
		Use:   "show [COMMAND]",
		Short: "show the value of each flag, and where it comes from",
		Args:  takes(0, 2, "a command, such as trace or case list"),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, path, err := readConfig()
			if err != nil {
				return err
			}
			list := []setting{}
			var walk func(*cobra.Command)
			walk = func(each *cobra.Command) {
				if name := commandName(each); name != "" && (len(args) == 0 || name == strings.Join(args, " ")) {
					list = append(list, c.settings(each, path, all || len(args) > 0)...)
				}
				for _, sub := range each.Commands() {
					if !sub.Hidden {
						walk(sub)
					}
				}
			}
			walk(cmd.Root())
			if len(args) > 0 && len(list) == 0 {
				return fmt.Errorf("config show: no command %q with flags; uakari help lists them",
					strings.Join(args, " "))
			}
			return told(cmd, asJSON, struct {
				Format   string    `json:"format"`
				File     string    `json:"file"`
				Cards    string    `json:"cards,omitempty"`
				Sheets   string    `json:"sheets,omitempty"`
				Programs string    `json:"programs,omitempty"`
				Flags    []setting `json:"flags"`
			}{"uakari.config-shown/1", path, c.Cards, c.Sheets, c.Programs, list},
				func() string { return shownConfig(c, path, list) })
		},
	}
	asData(cmd, &asJSON, " (uakari.config-shown/1)")
	cmd.Flags().BoolVar(&all, "all", false, "also what nobody set")
	return cmd
}

// settings is the flags of a command that somebody set; or all.
func (c config) settings(cmd *cobra.Command, path string, all bool) []setting {
	var list []setting
	cmd.Flags().VisitAll(func(flag *pflag.Flag) {
		if slices.Contains(perRun, flag.Name) || flag.Hidden {
			return
		}
		values, from := c.wanted(cmd, flag, path)
		switch {
		case from != "":
			shown := strings.Join(values, ", ")
			if flag.Name == "broker" {
				shown = withoutLogin(shown)
			}
			list = append(list, setting{commandName(cmd), flag.Name, shown, from})
		case all:
			list = append(list, setting{commandName(cmd), flag.Name, flag.DefValue, "the program"})
		}
	})
	return list
}

// withoutLogin is a URL without the account and secret in it.
func withoutLogin(text string) string {
	u, err := url.Parse(text)
	if err != nil {
		return "…" // it may hold a secret
	}
	u.User = nil
	return u.String()
}

func shownConfig(c config, path string, list []setting) string {
	var b strings.Builder
	if _, err := os.Stat(path); err == nil {
		fmt.Fprintf(&b, "%s\n", foreign.Printable(path))
	} else {
		fmt.Fprintf(&b, "%s is not there\n", foreign.Printable(path))
	}
	for _, folder := range []struct{ is, path string }{{"cards", c.Cards}, {"sheets", c.Sheets},
		{"programs", c.Programs}} {
		if folder.path != "" {
			fmt.Fprintf(&b, "  %-9s %s\n", folder.is, foreign.Printable(folder.path))
		}
	}
	last := ""
	for _, s := range list {
		if s.Command != last {
			fmt.Fprintf(&b, "\n%s\n", s.Command)
		}
		last = s.Command
		fmt.Fprintf(&b, "  --%-14s %-12s %s\n", s.Flag, foreign.Printable(s.Value), foreign.Printable(s.From))
	}
	if len(list) == 0 {
		b.WriteString("no flag has a default of yours\n")
	}
	return b.String()
}
