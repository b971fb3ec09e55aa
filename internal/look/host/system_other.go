//go:build !linux && !windows

package host

import (
	"uakari/internal/fact"
	"uakari/internal/look"
)

var system map[fact.Kind]look.Func
