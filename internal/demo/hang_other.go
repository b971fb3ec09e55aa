//go:build !linux

package demo

import (
	"errors"
)

func hang(Stand) error { return errors.New("a queue that is full can be played on Linux alone") }
