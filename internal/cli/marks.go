package cli

import (
	"uakari/internal/casebook"
	"uakari/internal/look/file"
	"uakari/internal/redact"
)

// useMarkKey lets values that are not kept be marked by this user's key.
func useMarkKey() { redact.UseKey(func() []byte { return casebook.MarkKey(file.Steers) }) }
