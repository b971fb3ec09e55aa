//go:build windows

package windows

import (
	"slices"

	"uakari/internal/fact"
	"uakari/internal/protocol"
)

// policies is the settings of this host that make its servers refuse something. What is
// not set is as the system is shipped, and tells nothing.
func policies() []fact.Policy {
	var list []fact.Policy
	for _, p := range protocol.All {
		for _, policy := range p.Policies {
			value, found, err := registryValue(`HKLM\`+policy.Key, policy.Name)
			if err == nil && found && slices.Contains(policy.Values, value) {
				list = append(list, fact.Policy{Place: policy.Place(), Value: value, Says: policy.Says})
			}
		}
	}
	return list
}
