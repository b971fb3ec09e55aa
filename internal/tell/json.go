package tell

import (
	"uakari/internal/plain"
	"uakari/internal/trail"
)

// JSON writes a trail as its contract has it (docs/schema/trail.schema.json).
func JSON(t trail.Trail) ([]byte, error) { return plain.JSON(t, "  ") }
