package file

import (
	"errors"
	"fmt"
)

// ErrSteers says that a file which steers this program (configuration, programs,
// cards, plans, sheets) could have been written by somebody else.
var ErrSteers = errors.New("what steers this program must belong to root or to the user who runs it, " +
	"and be writable by nobody else")

// notOwn is the error of a file that another account owns or may write to.
func notOwn(path, why string) error { return fmt.Errorf("%s %s: %w", path, why, ErrSteers) }
