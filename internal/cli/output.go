package cli

import (
	"errors"
	"fmt"
	"io/fs"

	"github.com/spf13/cobra"

	"uakari/internal/foreign"
	"uakari/internal/owned"
	"uakari/internal/yamlfile"
)

// asData gives a command the flags that make its output JSON: --json, and --out
// as trace has it.
func asData(cmd *cobra.Command, asJSON *bool, more string) {
	cmd.Flags().BoolVar(asJSON, "json", false, "the same as --out json")
	cmd.Flags().Var(format{asJSON}, "out", "format of the output: text or json"+more)
}

// format is the value of --out of a command that writes text or JSON.
type format struct{ json *bool }

// Type is how the help calls it.
func (format) Type() string { return "format" }

func (f format) String() string {
	if f.json != nil && *f.json {
		return "json"
	}
	return "text"
}

// Set takes "text" or "json".
func (f format) Set(text string) error {
	if text != "text" && text != "json" {
		return errors.New("expected text or json")
	}
	*f.json = text == "json"
	return nil
}

// told writes a judgement as JSON, or as text.
func told(cmd *cobra.Command, asJSON bool, judged any, text func() string) error {
	if !asJSON {
		return write(cmd, "", []byte(text()))
	}
	b, err := foreign.JSON(judged, "  ")
	if err != nil {
		return err
	}
	return write(cmd, "", b)
}

// asWritten writes a file that people write in YAML as JSON, with the same keys.
func asWritten(cmd *cobra.Command, path string, text []byte) error {
	var value any
	if err := yamlfile.Decode(path, text, &value); err != nil {
		return err
	}
	return told(cmd, true, value, nil)
}

// write writes a command's output to standard output, or to the file that the
// user named.
func write(cmd *cobra.Command, file string, text []byte) error {
	if file == "" {
		_, err := cmd.OutOrStdout().Write(text)
		return err
	}
	was, err := owned.Write(file, text)
	narrowed(cmd, file, was, err)
	return err
}

// writeWhole puts a file in its place in one step, for its owner alone. A link of that
// name is replaced and not followed.
func writeWhole(cmd *cobra.Command, file string, text []byte) error {
	was, err := owned.Replace(file, text)
	narrowed(cmd, file, was, err)
	return err
}

// narrowed says that a file which others could read is for its owner alone now.
func narrowed(cmd *cobra.Command, file string, was fs.FileMode, err error) {
	if err == nil && was != 0 {
		fmt.Fprintf(
			cmd.ErrOrStderr(),
			"uakari: %s could be read by others (mode %04o); it is for its owner alone now\n",
			foreign.Printable(file),
			was,
		)
	}
}
