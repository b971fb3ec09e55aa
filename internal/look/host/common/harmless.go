package common

import (
	"context"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/redact"
)

// harmlessKey is under which a context has the words that logs may be kept with.
type harmlessKey struct{}

// WithHarmless lets lines of logs be kept with the words that were asked about: those of the
// card's patterns, of the user's own program files, and of the unit, name and account of an
// order.
func WithHarmless(ctx context.Context, env look.Env, order fact.Order) context.Context {
	said := []string{env.Unit, env.Account, order.Target.Name, order.Target.Account}
	if c := env.Card; c != nil {
		said = append(said, c.Name, c.Program)
		for _, reason := range c.Reasons {
			said = append(said, reason.Log)
		}
		for _, sign := range c.Signs {
			said = append(said, sign.LastLine, sign.Must, sign.MustNot)
		}
	}
	for _, own := range env.Registry().Own {
		said = append(said, own.Text)
	}
	return context.WithValue(ctx, harmlessKey{}, redact.Vocabulary(said...))
}

// LogLine is what is kept of a line of a log.
func LogLine(ctx context.Context, line string) string {
	words, ok := ctx.Value(harmlessKey{}).(map[string]bool)
	if !ok {
		return redact.LogLine(line)
	}
	return redact.LogLine(line, words)
}
