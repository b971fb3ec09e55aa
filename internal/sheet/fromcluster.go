package sheet

import (
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"uakari/internal/fact"
)

// fits reports whether a selector picks labels; an empty one picks all.
func (s *selector) fits(labels map[string]string) bool {
	for key, value := range s.Labels {
		if labels[key] != value {
			return false
		}
	}
	for _, e := range s.Expressions {
		value, has := labels[e.Key]
		ok := map[string]bool{"In": has && slices.Contains(e.Values, value),
			"NotIn": !slices.Contains(e.Values, value), "Exists": has, "DoesNotExist": !has}[e.Operator]
		if !ok {
			return false
		}
	}
	return true
}

// cluster is the objects of an export, by kind.
type cluster struct {
	policies, services, slices, pods, namespaces, ingresses []document
	sheet                                                   *fact.Sheet
	notes                                                   []string
}

// fromCluster reads network policies, services, endpoint slices, pods,
// namespaces and ingresses. A pod that a policy picks for a direction takes only
// what one of its policies allows (the API's documentation of NetworkPolicy).
func fromCluster(documents []document) (*fact.Sheet, []string, error) {
	c := &cluster{sheet: &fact.Sheet{Format: Format, Name: "cluster", Groups: map[string][]string{}}}
	c.sort(documents)
	if len(c.policies)+len(c.services)+len(c.ingresses) == 0 {
		return nil, nil, fmt.Errorf("of its objects none is a network policy, a service or an ingress")
	}
	if len(c.policies) > 0 && len(c.pods) == 0 {
		c.notes = append(c.notes,
			"no pods are in the export, so that nobody can say whom a policy picks: export them too")
	}
	for _, pod := range c.pods {
		if len(addressesOf(pod)) > 0 {
			c.layer(pod)
		}
	}
	for _, s := range c.services {
		c.forward(s)
	}
	for _, i := range c.ingresses {
		c.ingress(i)
	}
	return c.sheet, c.notes, nil
}

func (c *cluster) sort(documents []document) {
	for _, d := range documents {
		switch d.Kind {
		case "NetworkPolicy":
			c.policies = append(c.policies, d)
		case "Service":
			c.services = append(c.services, d)
		case "EndpointSlice":
			c.slices = append(c.slices, d)
		case "Pod":
			c.pods = append(c.pods, d)
		case "Namespace":
			c.namespaces = append(c.namespaces, d)
		case "Ingress":
			c.ingresses = append(c.ingresses, d)
		case "List", "NetworkPolicyList", "ServiceList", "EndpointSliceList", "PodList", "NamespaceList",
			"IngressList":
			kind := strings.TrimSuffix(d.Kind, "List")
			items := slices.Clone(d.Items)
			for i := range items {
				if items[i].Kind == "" {
					items[i].Kind = kind // lists leave it out
				}
			}
			c.sort(items)
		case "":
		default:
			c.notes = append(c.notes, fmt.Sprintf("%s %s says nothing that a sheet holds", d.Kind, d.Metadata.Name))
		}
	}
}

func addressesOf(pod document) []string {
	var list []string
	for _, each := range pod.Status.PodIPs {
		list = append(list, each.IP)
	}
	if len(list) == 0 && pod.Status.PodIP != "" {
		list = []string{pod.Status.PodIP}
	}
	return list
}

func fullName(d document) string { return or(d.Metadata.Namespace, "default") + "/" + d.Metadata.Name }

// layer is what a pod's policies say; a pod that none picks has no layer.
func (c *cluster) layer(pod document) {
	for _, side := range []string{"in", "out"} {
		var names []string
		var rules []fact.SheetRule
		for _, p := range c.policies {
			if or(p.Metadata.Namespace, "default") != or(pod.Metadata.Namespace, "default") ||
				p.Spec.PodSelector != nil && !p.Spec.PodSelector.fits(pod.Metadata.Labels) ||
				!p.isFor(side) {
				continue
			}
			names = append(names, p.Metadata.Name)
			list := p.Spec.Ingress
			if side == "out" {
				list = p.Spec.Egress
			}
			for i, r := range list {
				rules = append(rules, c.rules(p, pod, side, i, r)...)
			}
		}
		if len(names) == 0 {
			continue
		}
		l := fact.Layer{
			Name:      fmt.Sprintf("policies of %s, %s (%s)", fullName(pod), side, strings.Join(names, ", ")),
			Kind:      "stateful",
			Order:     "any",
			Otherwise: "deny",
			Guards:    addressesOf(pod),
		}
		other := fact.SheetRule{Name: "no policy for this direction", Do: "allow"}
		if side == "in" {
			l.In, l.Out = rules, []fact.SheetRule{other}
		} else {
			l.In, l.Out = []fact.SheetRule{other}, rules
		}
		c.sheet.Layers = append(c.sheet.Layers, l)
	}
}

// isFor reports whether a policy speaks of a direction: by its types or, where it
// names none, of what comes in, and of what goes out where it has rules for that.
func (d document) isFor(side string) bool {
	kind := map[string]string{"in": "Ingress", "out": "Egress"}[side]
	if len(d.Spec.PolicyTypes) > 0 {
		return slices.Contains(d.Spec.PolicyTypes, kind)
	}
	return side == "in" || len(d.Spec.Egress) > 0
}

// rules is one rule of a policy as a sheet's: one for each block with exceptions,
// and one for all other peers together.
func (c *cluster) rules(policy, pod document, side string, number int, r policyRule) []fact.SheetRule {
	peers := r.From
	if side == "out" {
		peers = r.To
	}
	base := fact.SheetRule{Name: fmt.Sprintf("%s, rule %d", policy.Metadata.Name, number+1), Do: "allow"}
	var list []fact.SheetRule
	put := func(ends, except []string) {
		rule := base
		if side == "in" {
			rule.From, rule.NotFrom = ends, except
		} else {
			rule.To, rule.NotTo = ends, except
		}
		list = append(list, rule)
	}
	var together []string
	for _, peer := range peers {
		if peer.Block != nil {
			put([]string{peer.Block.CIDR}, peer.Block.Except)
			continue
		}
		together = append(together, c.podsOf(policy, peer)...)
	}
	switch {
	case len(peers) == 0:
		put(nil, nil) // everybody
	case len(together) > 0:
		put(together, nil)
	case len(list) == 0:
		c.notes = append(c.notes, fmt.Sprintf("%s picks no pod that is in the export", base.Name))
		return nil
	}
	return c.withPorts(list, policy, pod, side, r)
}

// podsOf is the addresses of the pods that a peer picks.
func (c *cluster) podsOf(policy document, peer policyPeer) []string {
	var list []string
	for _, pod := range c.pods {
		space := or(pod.Metadata.Namespace, "default")
		switch {
		case peer.Namespaces == nil && space != or(policy.Metadata.Namespace, "default"):
			continue
		case peer.Namespaces != nil && !peer.Namespaces.fits(c.labelsOf(space)):
			continue
		case peer.Pods != nil && !peer.Pods.fits(pod.Metadata.Labels):
			continue
		}
		list = append(list, addressesOf(pod)...)
	}
	return list
}

// labelsOf is a namespace's labels, with the one that each has by itself.
func (c *cluster) labelsOf(space string) map[string]string {
	labels := map[string]string{"kubernetes.io/metadata.name": space}
	for _, n := range c.namespaces {
		if n.Metadata.Name == space {
			maps.Copy(labels, n.Metadata.Labels)
		}
	}
	return labels
}

// withPorts gives rules their ports; a name is looked for at the pod.
func (c *cluster) withPorts(rules []fact.SheetRule, policy, pod document, side string, r policyRule) []fact.SheetRule {
	if len(r.Ports) == 0 {
		return rules
	}
	byTransport := map[string][]string{}
	for _, p := range r.Ports {
		transport := strings.ToLower(or(p.Protocol, "TCP"))
		text := fmt.Sprint(p.Port)
		switch number, name := p.Port, ""; number.(type) {
		case nil:
			text = "1-65535"
		case string:
			name = number.(string)
			port, known := portNamed(pod, name)
			if !known || side == "out" {
				c.notes = append(c.notes, fmt.Sprintf("%s names the port %s, which no container of %s has: that "+
					"part allows nothing (it has %s)", policy.Metadata.Name, name, fullName(pod), portNames(pod)))
				continue
			}
			text = fmt.Sprint(port)
		}
		if p.End > 0 {
			text += fmt.Sprintf("-%d", p.End)
		}
		if transport == "tcp" || transport == "udp" {
			byTransport[transport] = append(byTransport[transport], text)
		}
	}
	var list []fact.SheetRule
	for _, transport := range slices.Sorted(maps.Keys(byTransport)) {
		for _, rule := range rules {
			rule.Transport, rule.Ports = transport, byTransport[transport]
			list = append(list, rule)
		}
	}
	return list
}

// portNamed is the port that a pod's container calls by a name.
func portNamed(pod document, name string) (int, bool) {
	for _, c := range pod.Spec.Containers {
		for _, p := range c.Ports {
			if p.Name == name {
				return p.Port, true
			}
		}
	}
	return 0, false
}

func portNames(pod document) string {
	var list []string
	for _, c := range pod.Spec.Containers {
		for _, p := range c.Ports {
			list = append(list, strings.TrimSpace(fmt.Sprintf("%s %d", p.Name, p.Port)))
		}
	}
	if len(list) == 0 {
		return "none"
	}
	return strings.Join(list, ", ")
}

// forward is a service: its addresses, and who is behind each of its ports.
func (c *cluster) forward(s document) {
	addresses := s.Spec.ClusterIPs
	if len(addresses) == 0 {
		addresses = []string{s.Spec.ClusterIP}
	}
	for _, p := range s.Spec.Ports {
		to, why := c.behind(s, p)
		for _, address := range addresses {
			if _, err := netip.ParseAddr(address); err != nil {
				continue // without an address of its own: its name leads to the pods
			}
			c.sheet.Forwards = append(c.sheet.Forwards, fact.Forward{
				Name: fmt.Sprintf("service %s, port %s", fullName(s), or(p.Name, fmt.Sprint(p.Port))),
				From: at(address, p.Port), To: to, Why: why,
			})
		}
	}
}

// behind is who takes the connections of a service's port: by its endpoint slices
// or, where the export has none, by the pods that it picks.
func (c *cluster) behind(s document, p servicePort) (to []string, why string) {
	sliced, notReady := false, 0
	for _, e := range c.slices {
		if e.Metadata.Labels["kubernetes.io/service-name"] != s.Metadata.Name ||
			or(e.Metadata.Namespace, "default") != or(s.Metadata.Namespace, "default") {
			continue
		}
		sliced = true
		for _, raw := range e.Ports {
			var port slicePort
			if text, err := yaml.Marshal(raw); err != nil || yaml.Unmarshal(text, &port) != nil ||
				port.Name != p.Name {
				continue
			}
			for _, end := range e.Endpoints {
				if end.Conditions.Ready != nil && !*end.Conditions.Ready {
					notReady++
					continue
				}
				for _, address := range end.Addresses {
					to = append(to, at(address, port.Port))
				}
			}
		}
	}
	if len(to) > 0 {
		return to, ""
	}
	picked, reason := c.picked(s, p)
	switch {
	case reason != "":
		return nil, reason
	case notReady > 0:
		return nil, fmt.Sprintf("%d are picked, and none of them is ready", notReady)
	case sliced:
		return nil, "its endpoint slices list nobody for this port"
	}
	return picked, ""
}

// picked is the pods that a service's selector picks, or why there are none.
func (c *cluster) picked(s document, p servicePort) (to []string, why string) {
	labels := map[string]string{}
	if text, err := yaml.Marshal(s.Spec.Selector); err != nil || yaml.Unmarshal(text, &labels) != nil ||
		len(labels) == 0 ||
		len(c.pods) == 0 {
		return nil, "" // whom it picks, its export does not say
	}
	want := selector{Labels: labels}
	found, ready := 0, 0
	for _, pod := range c.pods {
		if or(pod.Metadata.Namespace, "default") != or(s.Metadata.Namespace, "default") ||
			!want.fits(pod.Metadata.Labels) {
			continue
		}
		found++
		if !isReady(pod) {
			continue
		}
		ready++
		port, named := p.Port, ""
		switch target := p.Target.(type) {
		case string:
			number, known := portNamed(pod, target)
			if named = target; !known {
				why = fmt.Sprintf("its port is sent to the name %s, which no container of %s has (it has %s)", named,
					fullName(pod), portNames(pod))
				continue
			}
			port = number
		case nil:
		default:
			fmt.Sscan(fmt.Sprint(target), &port)
		}
		for _, address := range addressesOf(pod) {
			to = append(to, at(address, port))
		}
	}
	switch {
	case len(to) > 0:
		return to, ""
	case found == 0:
		return nil, fmt.Sprintf("no pod has its labels (%s)", labelText(labels))
	case ready == 0:
		return nil, fmt.Sprintf("%d are picked, and none of them is ready", found)
	}
	return nil, why
}

// at is an address with a port; what is no address stays as it was written, and is
// found when the sheet is read.
func at(address string, port int) string {
	addr, err := netip.ParseAddr(address)
	if err != nil {
		return fmt.Sprintf("%s:%d", address, port)
	}
	return netip.AddrPortFrom(addr, uint16(port)).String()
}

func isReady(pod document) bool {
	for _, condition := range pod.Status.Conditions {
		if condition.Type == "Ready" {
			return condition.Status == "True"
		}
	}
	return true
}

func labelText(labels map[string]string) string {
	var list []string
	for _, key := range slices.Sorted(maps.Keys(labels)) {
		list = append(list, key+"="+labels[key])
	}
	return strings.Join(list, ", ")
}

// ingress notes what an ingress sends to a service that is not there, or to a
// port that it does not have.
func (c *cluster) ingress(i document) {
	for _, rule := range i.Spec.Rules {
		for _, path := range rule.HTTP.Paths {
			want := path.Backend.Service
			if want.Name == "" {
				continue
			}
			at := slices.IndexFunc(c.services, func(s document) bool {
				return s.Metadata.Name == want.Name && or(s.Metadata.Namespace, "default") == or(i.Metadata.Namespace,
					"default")
			})
			where := fmt.Sprintf("ingress %s sends %s%s to the service %s", fullName(i), rule.Host, path.Path,
				want.Name)
			switch {
			case at < 0:
				c.notes = append(c.notes, where+", which is not in the export")
			case !slices.ContainsFunc(c.services[at].Spec.Ports, func(p servicePort) bool {
				return want.Port.Number != 0 && p.Port == want.Port.Number || want.Port.Name != "" &&
					p.Name == want.Port.Name
			}):
				c.notes = append(
					c.notes,
					fmt.Sprintf("%s, port %s, which it does not have", where,
						or(want.Port.Name, fmt.Sprint(want.Port.Number))),
				)
			}
		}
	}
}
