// Package owned keeps files and folders for their owner alone: by their mode, and on
// Windows, where a mode does not say so, by an access list.
package owned

import (
	"errors"
	"io/fs"
	"os"
)

// Folder makes a folder for its owner alone, if it is not there; one that is there is left
// as it is.
func Folder(path string) error {
	if _, err := os.Stat(path); !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err := os.MkdirAll(path, 0o700); err != nil {
		return err
	}
	return Only(path)
}
