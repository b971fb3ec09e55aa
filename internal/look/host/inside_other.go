//go:build !linux

package host

import (
	"context"
	"errors"
	"io"
)

// Inside runs this program again within a container or a namespace; there are
// none here.
func Inside(context.Context, string, []string, io.Reader, io.Writer, io.Writer) error {
	return errors.New("--in: only hosts that run Linux have such namespaces")
}

// Settle has nothing to do where there is no such place.
func Settle() error { return nil }
