package tell

import (
	"fmt"
	"strings"

	"uakari/internal/weigh"
)

// SignedIn tells what a sheet's sign-in policies hold for one try.
func SignedIn(sheet string, try weigh.SignInTry, v weigh.SignInVerdict, doubts []string) string {
	var b strings.Builder
	from := ""
	if try.From.IsValid() {
		from = " from " + try.From.String()
	}
	verdict := map[string]string{"allow": "Yes: %s may sign in%s", "refuse": "No: %s may not sign in%s", "require": "Only with a " + strings.ReplaceAll(v.Require, "-", " ") + ": %s%s"}[v.Do]
	block(&b, "", "", fmt.Sprintf(verdict, safe(try.Account), from)+".", width)
	if v.Rule > 0 {
		block(&b, "", "", fmt.Sprintf("Rule %d (%s) of the sheet %s decides.", v.Rule, safe(v.Name), safe(sheet)), width)
	} else {
		block(&b, "", "", fmt.Sprintf("No rule of the sheet %s applies, and this holds otherwise.", safe(sheet)), width)
	}
	if v.Unsure != "" {
		block(&b, "Not certain: ", "  ", safe(v.Unsure)+".", width)
	}
	if len(v.Passed) > 0 {
		b.WriteString("\nPassed over:\n")
		for _, text := range v.Passed {
			block(&b, "  ", "    ", safe(text), width)
		}
	}
	for _, text := range doubts {
		block(&b, "\nOdd: ", "  ", safe(text)+".", width)
	}
	return b.String()
}
