package vantage

import (
	"context"
	"sync"
	"time"

	"uakari/internal/fact"
)

// Missing is a host that could not be reached in its time. It answers every look
// with why, so that what the other vantages see is not lost.
type Missing struct {
	info fact.Vantage
	why  string
	once sync.Once
}

// NewMissing makes one; why is what happened instead: "no answer in 10s".
func NewMissing(info fact.Vantage, why string) *Missing { return &Missing{info: info, why: why} }

// Info is which vantage it would have been.
func (m *Missing) Info() fact.Vantage { return m.info }

// Look leaves why nothing was seen, and once that the run is not whole.
func (m *Missing) Look(_ context.Context, order fact.Order, emit func(fact.Fact)) {
	first := false
	m.once.Do(func() { first = true })
	emit(fact.Fact{
		Vantage: m.info.ID, At: time.Now().UTC(), Order: order, Source: string(order.Look),
		Saw: "could not be checked: " + m.why,
		Failed: &fact.Failure{
			What: "could not check from " + m.info.Host, Why: m.why, Needs: "a longer --deadline", CutOff: first,
		},
	})
}
