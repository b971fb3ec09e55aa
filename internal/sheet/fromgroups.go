package sheet

import (
	"fmt"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"uakari/internal/fact"
)

// securityGroup is one of OpenStack's networking API (version 2.0).
type securityGroup struct {
	ID    string      `yaml:"id"`
	Name  string      `yaml:"name"`
	Rules []groupRule `yaml:"security_group_rules"`
}

// groupRule allows one direction; there are none that deny.
type groupRule struct {
	Direction string  `yaml:"direction"` // "ingress" or "egress"
	Ethertype string  `yaml:"ethertype"` // "IPv4" or "IPv6"
	Protocol  *string `yaml:"protocol"`
	Low       *int    `yaml:"port_range_min"`
	High      *int    `yaml:"port_range_max"`
	Prefix    *string `yaml:"remote_ip_prefix"`
	Group     *string `yaml:"remote_group_id"`
	Of        string  `yaml:"security_group_id"`
}

type router struct {
	Name   string       `yaml:"name"`
	Routes []groupRoute `yaml:"routes"`
}

type subnet struct {
	Name    string       `yaml:"name"`
	CIDR    string       `yaml:"cidr"`
	Gateway *string      `yaml:"gateway_ip"`
	Routes  []groupRoute `yaml:"host_routes"`
}

type groupRoute struct {
	Destination string `yaml:"destination"`
	Nexthop     string `yaml:"nexthop"`
}

// groupPort is a port of the networking API: whose address is in which groups.
type groupPort struct {
	Groups []string `yaml:"security_groups"`
	Fixed  []struct {
		Address string `yaml:"ip_address"`
	} `yaml:"fixed_ips"`
}

// fromGroups reads security groups, the ports that are in them, routers and
// subnets. A group's rules allow, and what none allows is denied.
func fromGroups(documents []document) (*fact.Sheet, []string, error) {
	s := &fact.Sheet{Format: Format, Name: "cloud", Groups: map[string][]string{}}
	var notes []string
	names := map[string]string{} // of groups, by their id
	var groups []securityGroup
	for _, d := range documents {
		groups = append(groups, d.SecurityGroups...)
		if len(d.Rules) > 0 && len(d.SecurityGroups) == 0 {
			for _, r := range d.Rules {
				groups = withRule(groups, r)
			}
		}
	}
	for _, g := range groups {
		names[g.ID] = or(g.Name, g.ID)
		s.Groups[names[g.ID]] = []string{}
	}
	together := groupsTogether(documents, names)
	for _, set := range together {
		for _, id := range set.groups {
			s.Groups[names[id]] = append(s.Groups[names[id]], set.addresses...)
		}
	}
	for _, g := range groups {
		if !slices.ContainsFunc(together, func(set groupSet) bool { return slices.Contains(set.groups, g.ID) }) {
			notes = append(
				notes,
				fmt.Sprintf(
					"which addresses are in the group %s is not in the export: write them into the group, or export "+
						"the ports too",
					names[g.ID],
				),
			)
			together = append(together, groupSet{groups: []string{g.ID}})
		}
	}
	for _, set := range together {
		l, more := set.layer(groups, names)
		s.Layers, notes = append(s.Layers, l), append(notes, more...)
	}
	for _, d := range documents {
		for _, sub := range d.Subnets {
			t := fact.SheetRoutes{Name: or(sub.Name, sub.CIDR), For: []string{sub.CIDR}}
			for _, r := range sub.Routes {
				t.Table = append(t.Table, fact.SheetRoute{To: r.Destination, Via: r.Nexthop})
			}
			t.Table = append(t.Table, fact.SheetRoute{To: sub.CIDR, Via: "the link"})
			if sub.Gateway != nil && *sub.Gateway != "" {
				t.Table = append(t.Table, fact.SheetRoute{To: everywhere(sub.CIDR), Via: *sub.Gateway})
			}
			s.Routes = append(s.Routes, t)
		}
		for _, r := range d.Routers {
			for _, route := range r.Routes {
				notes = append(
					notes,
					fmt.Sprintf(
						"router %s sends %s on to %s: write it into the routes of the addresses that it is for",
						r.Name,
						route.Destination,
						route.Nexthop,
					),
				)
			}
		}
	}
	return s, notes, nil
}

// groupSet is addresses that are in the same groups. What any of these allows is
// allowed.
type groupSet struct {
	groups    []string // by their id
	addresses []string
}

// groupsTogether is the sets of groups that ports are in.
func groupsTogether(documents []document, names map[string]string) []groupSet {
	var list []groupSet
	for _, d := range documents {
		for _, raw := range d.Ports {
			var p groupPort
			if text, err := yaml.Marshal(raw); err != nil || yaml.Unmarshal(text, &p) != nil {
				continue // not a port of the networking API
			}
			set := groupSet{}
			for _, id := range slices.Sorted(slices.Values(p.Groups)) {
				if names[id] != "" {
					set.groups = append(set.groups, id)
				}
			}
			for _, at := range p.Fixed {
				set.addresses = append(set.addresses, at.Address)
			}
			at := slices.IndexFunc(list, func(o groupSet) bool { return slices.Equal(o.groups, set.groups) })
			switch {
			case len(set.groups) == 0 || len(set.addresses) == 0:
			case at < 0:
				list = append(list, set)
			default:
				list[at].addresses = append(list[at].addresses, set.addresses...)
			}
		}
	}
	return list
}

// layer is what the groups of a set allow together.
func (set groupSet) layer(groups []securityGroup, names map[string]string) (l fact.Layer, notes []string) {
	var called []string
	l = fact.Layer{Kind: "stateful", Order: "any", Otherwise: "deny", Guards: set.addresses}
	for _, g := range groups {
		if !slices.Contains(set.groups, g.ID) {
			continue
		}
		called = append(called, names[g.ID])
		for _, r := range g.Rules {
			rule, note := r.rule(names)
			switch rule.Name = names[g.ID]; {
			case note != "":
				notes = append(notes, fmt.Sprintf("group %s: %s", names[g.ID], note))
			case r.Direction == "egress":
				l.Out = append(l.Out, rule)
			default:
				l.In = append(l.In, rule)
			}
		}
	}
	l.Name = "group " + strings.Join(called, " and ")
	if len(l.Guards) == 0 {
		l.Guards = called
	}
	return l, notes
}

// withRule puts a rule that stands alone into its group.
func withRule(groups []securityGroup, r groupRule) []securityGroup {
	for i := range groups {
		if groups[i].ID == r.Of {
			groups[i].Rules = append(groups[i].Rules, r)
			return groups
		}
	}
	return append(groups, securityGroup{ID: r.Of, Rules: []groupRule{r}})
}

// everywhere is the net of all addresses of a net's family.
func everywhere(cidr string) string {
	if strings.Contains(cidr, ":") {
		return "::/0"
	}
	return "0.0.0.0/0"
}

// rule is the rule as a sheet has it; note says why it cannot be one.
func (r groupRule) rule(names map[string]string) (rule fact.SheetRule, note string) {
	rule.Do = "allow"
	end := []string{map[string]string{"IPv6": "::/0"}[r.Ethertype]}
	if end[0] == "" {
		end[0] = "0.0.0.0/0"
	}
	switch {
	case r.Prefix != nil && *r.Prefix != "":
		end = []string{*r.Prefix}
	case r.Group != nil && *r.Group != "":
		name, known := names[*r.Group]
		if !known {
			return rule, fmt.Sprintf("a rule is for the group %s, which is not in the export", *r.Group)
		}
		end = []string{name}
	}
	if r.Direction == "egress" {
		rule.To = end
	} else {
		rule.From = end
	}
	if r.Protocol != nil && *r.Protocol != "" && *r.Protocol != "any" {
		switch protocol := strings.ToLower(*r.Protocol); protocol {
		case "tcp", "udp":
			rule.Transport = protocol
		case "icmp", "icmpv6", "ipv6-icmp", "1", "58":
			rule.Transport = "icmp"
			return rule, ""
		case "6":
			rule.Transport = "tcp"
		case "17":
			rule.Transport = "udp"
		default:
			return rule, fmt.Sprintf("a rule is for the protocol %s, of which a sheet knows nothing", protocol)
		}
	}
	if r.Low != nil && r.High != nil {
		rule.Ports = []string{fmt.Sprint(*r.Low)}
		if *r.High != *r.Low {
			rule.Ports = []string{fmt.Sprintf("%d-%d", *r.Low, *r.High)}
		}
	}
	return rule, ""
}
