package cli

import (
	"testing"

	"github.com/spf13/cobra"
)

// TestAsData is --json and --out, which say the same.
func TestAsData(t *testing.T) {
	for _, c := range []struct {
		args []string
		json bool
		err  bool
	}{
		{nil, false, false},
		{[]string{"--json"}, true, false},
		{[]string{"--out", "json"}, true, false},
		{[]string{"--out", "text"}, false, false},
		{[]string{"--out", "xml"}, false, true},
	} {
		var asJSON bool
		cmd := &cobra.Command{}
		asData(cmd, &asJSON, "")
		if err := cmd.ParseFlags(c.args); asJSON != c.json || (err != nil) != c.err {
			t.Errorf("%v: JSON %v, %v", c.args, asJSON, err)
		}
	}
}
