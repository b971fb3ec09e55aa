package tell

import (
	"fmt"
	"strings"

	"uakari/internal/weigh/login"

	"uakari/internal/foreign"
)

// SignedIn tells what a sheet's sign-in policies hold for one try.
func SignedIn(sheet string, try login.SignInTry, v login.SignInVerdict, doubts []string) string {
	var b strings.Builder
	from := ""
	if try.From.IsValid() {
		from = " from " + try.From.String()
	}
	verdict := map[string]string{"allow": "Yes: %s may sign in%s", "refuse": "No: %s may not sign in%s",
		"require": "Only with a " + strings.ReplaceAll(v.Require, "-", " ") + ": %s%s"}[v.Do]
	block(&b, "", "", fmt.Sprintf(verdict, foreign.Printable(try.Account), from)+".", width)
	if v.Rule > 0 {
		block(
			&b,
			"",
			"",
			fmt.Sprintf(
				"Rule %d (%s) of the sheet %s decides.",
				v.Rule,
				foreign.Printable(v.Name),
				foreign.Printable(sheet),
			),
			width,
		)
	} else {
		block(&b, "", "", fmt.Sprintf("No rule of the sheet %s applies, and this holds otherwise.",
			foreign.Printable(sheet)), width)
	}
	if v.Unsure != "" {
		block(&b, "Not certain: ", "  ", foreign.Printable(v.Unsure)+".", width)
	}
	if len(v.Passed) > 0 {
		b.WriteString("\nPassed over:\n")
		for _, text := range v.Passed {
			block(&b, "  ", "    ", foreign.Printable(text), width)
		}
	}
	for _, text := range doubts {
		block(&b, "\nOdd: ", "  ", foreign.Printable(text)+".", width)
	}
	return b.String()
}
