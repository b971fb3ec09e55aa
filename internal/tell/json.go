package tell

import (
	"bytes"
	"encoding/json"

	"uakari/internal/trail"
)

// JSON writes a trail as its contract has it (docs/schema/trail.schema.json).
func JSON(t trail.Trail) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	e.SetIndent("", "  ")
	err := e.Encode(t)
	return b.Bytes(), err
}
