package weigh

import (
	"regexp"
	"slices"
	"strings"
)

// cardReason is the cause that the card gives to a line of the application's
// log, of those of a rung, and the newest such line.
func (v *view) cardReason(lines []string, rung string) (cause, line string) {
	if v.ask.Card == nil {
		return "", ""
	}
	for _, reason := range v.ask.Card.Reasons {
		if _, known := Explain(reason.Cause); !known || !strings.HasPrefix(reason.Cause, rung+"/") {
			continue
		}
		pattern, err := regexp.Compile(reason.Log)
		if err != nil {
			continue // a kept card, from before it was checked
		}
		for _, each := range slices.Backward(lines) {
			if pattern.MatchString(each) {
				if reason.Says != "" {
					each = reason.Says + ": " + each
				}
				return reason.Cause, each
			}
		}
	}
	return "", ""
}
