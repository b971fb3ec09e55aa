package cli

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"github.com/spf13/cobra"

	"uakari/internal/owned"
	"uakari/internal/plain"
	"uakari/internal/written"
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
	b, err := plain.JSON(judged, "  ")
	if err != nil {
		return err
	}
	return write(cmd, "", b)
}

// asWritten writes a file that people write in YAML as JSON, with the same keys.
func asWritten(cmd *cobra.Command, path string, text []byte) error {
	var value any
	if err := written.Decode(path, text, &value); err != nil {
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
	// What the user named is where a link of that name leads.
	if to, err := filepath.EvalSymlinks(file); err == nil {
		file = to
	}
	return writeWhole(cmd, file, text)
}

// private is the mode of every file that is written: what was seen of hosts is
// for whoever looked.
const private fs.FileMode = 0o600

// writeWhole puts a file in its place in one step: it is written beside it, and
// renamed when all of it is on the disk. A link of that name is replaced and
// not followed. What is no regular file, such as a pipe, is written to as it
// is.
func writeWhole(cmd *cobra.Command, file string, text []byte) error {
	was, err := os.Lstat(file)
	switch {
	case errors.Is(err, fs.ErrNotExist):
	case err != nil:
		return err
	case was.IsDir():
		return fmt.Errorf("%s: a folder; expected a file", file)
	case was.Mode().IsRegular():
		if mode := was.Mode().Perm(); mode&0o077 != 0 && filepath.Separator == '/' {
			fmt.Fprintf(
				cmd.ErrOrStderr(),
				"uakari: %s could be read by others (mode %04o); it is for its owner alone now\n",
				plain.Printable(file),
				mode,
			)
		}
	case was.Mode()&fs.ModeSymlink == 0:
		return writeTo(file, text)
	}
	beside, err := os.CreateTemp(filepath.Dir(file), "."+filepath.Base(file)+".*")
	if err != nil {
		return err
	}
	_, err = beside.Write(text)
	err = errors.Join(err, beside.Chmod(private), beside.Sync(), beside.Close())
	if err == nil {
		err = owned.Only(beside.Name())
	}
	if err == nil {
		err = os.Rename(beside.Name(), file)
	}
	if err != nil {
		return errors.Join(fmt.Errorf("%s is left as it was: %w", file, err), os.Remove(beside.Name()))
	}
	return nil
}

// writeTo writes to something that is there and cannot be replaced.
func writeTo(file string, text []byte) error {
	f, err := os.OpenFile(file, os.O_WRONLY, 0)
	if err != nil {
		return err
	}
	_, err = f.Write(text)
	return errors.Join(err, f.Close())
}
