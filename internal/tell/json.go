package tell

import (
	"uakari/internal/foreign"
	"uakari/internal/trail"
)

// JSON writes a trail as its contract has it (docs/schema/trail.schema.json).
func JSON(t trail.Trail) ([]byte, error) { return foreign.JSON(t, "  ") }
