package fact

import "strings"

// Talk is what is said on a connection of an application that speaks a
// protocol of its own, step by step.
type Talk struct {
	Steps []TalkStep `json:"steps" yaml:"steps"`
	// Means is the causes of words that the server may say instead.
	Means []TalkMeaning `json:"means,omitempty" yaml:"means"`
}

// TalkStep is one step: something to wait for, to send, or the start of TLS.
type TalkStep struct {
	Expect string `json:"expect,omitempty" yaml:"expect"` // a regular expression on what came since the step before
	Send   string `json:"send,omitempty" yaml:"send"`     // {account} and {secret} stand for those of the run
	Hex    string `json:"hex,omitempty" yaml:"hex"`       // bytes to send
	TLS    string `json:"tls,omitempty" yaml:"tls"`       // "start"
	Within string `json:"within,omitempty" yaml:"within"` // how long an answer may take: "3s"
}

// TalkMeaning is words of the server, and the cause that they mean.
type TalkMeaning struct {
	Words string `json:"words" yaml:"words"` // a regular expression
	Cause string `json:"cause" yaml:"cause"`
	Says  string `json:"says,omitempty" yaml:"says"`
}

// Places in what is sent that stand for the account and the secret of a run.
const (
	AccountPlace = "{account}"
	SecretPlace  = "{secret}"
)

// SignsIn reports whether a step shows the account or its secret.
func (s TalkStep) SignsIn() bool {
	return strings.Contains(s.Send, AccountPlace) || strings.Contains(s.Send, SecretPlace)
}

// SignsIn reports whether the talk is one with an account.
func (t *Talk) SignsIn() bool {
	if t == nil {
		return false
	}
	for _, s := range t.Steps {
		if s.SignsIn() {
			return true
		}
	}
	return false
}
