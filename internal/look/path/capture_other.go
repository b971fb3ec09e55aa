//go:build !linux

package path

import (
	"context"
	"errors"

	"uakari/internal/look"
)

// Capture keeps the packets of a port; not on this system.
type Capture struct{}

// StartCapture says that packets are kept on Linux alone.
func StartCapture(context.Context, bool, ...uint16) (*Capture, error) {
	return nil, errors.New("packets are kept on Linux alone")
}

// Take gives nothing.
func (*Capture) Take() []look.Captured { return nil }

// Close does nothing.
func (*Capture) Close() {}
