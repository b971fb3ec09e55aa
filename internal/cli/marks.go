package cli

import (
	"uakari/internal/casebook"
	redact "uakari/internal/keep"
	"uakari/internal/look/file"
)

// useMarkKey lets values that are not kept be marked by this user's key.
func useMarkKey() { redact.UseKey(func() []byte { return casebook.MarkKey(file.Steers) }) }
