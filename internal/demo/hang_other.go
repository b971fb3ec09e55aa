//go:build !linux

package demo

import (
	"errors"
)

func hang(Stand) error { return errors.New("the demo needs Linux") }
