package fact

import "strings"

// Candidates is the full names that a look-up of a name asks for, in order:
// a name with enough dots is tried as it is first, then with each suffix of
// the search list, else last (resolv.conf(5), "ndots").
func (s ResolverSetup) Candidates(name string) []string {
	if strings.HasSuffix(name, ".") {
		return []string{name}
	}
	asIs := name + "."
	var list []string
	if strings.Count(name, ".") >= s.Ndots {
		list = append(list, asIs)
	}
	for _, suffix := range s.Search {
		list = append(list, name+"."+strings.Trim(suffix, ".")+".")
	}
	if strings.Count(name, ".") < s.Ndots {
		list = append(list, asIs)
	}
	return list
}
