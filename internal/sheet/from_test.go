package sheet

import (
	"strings"
	"testing"
)

const harbour = `kind: List
items:
- kind: Service
  metadata: {name: tidebook, namespace: harbour}
  spec: {clusterIP: 10.96.0.10, selector: {app: tidebook}, ports: [{name: web, port: 443, targetPort: https}, {name: admin, port: 8443, targetPort: admin}]}
- kind: Service
  metadata: {name: ledger, namespace: harbour}
  spec: {clusterIP: 10.96.0.11, selector: {app: ledger}, ports: [{port: 5432}]}
- kind: Service
  metadata: {name: pier, namespace: harbour}
  spec: {clusterIP: 10.96.0.12, selector: {app: pier}, ports: [{name: web, port: 80, targetPort: 8080}]}
- kind: Service
  metadata: {name: sliced, namespace: harbour}
  spec: {clusterIPs: [10.96.0.13, "fd96::13"], ports: [{name: web, port: 80}]}
- kind: Service
  metadata: {name: bare, namespace: harbour}
  spec: {clusterIP: None, ports: [{port: 80}]}
- kind: EndpointSlice
  metadata: {name: sliced-1, namespace: harbour, labels: {kubernetes.io/service-name: sliced}}
  ports: [{name: web, port: 8081}]
  endpoints: [{addresses: [10.244.3.3], conditions: {ready: true}}, {addresses: [10.244.3.4], conditions: {ready: false}}]
- kind: Pod
  metadata: {name: tidebook-1, namespace: harbour, labels: {app: tidebook}}
  spec: {containers: [{ports: [{name: https, containerPort: 8443}]}]}
  status: {podIP: 10.244.1.5, conditions: [{type: Ready, status: "True"}]}
- kind: Pod
  metadata: {name: pier-1, namespace: harbour, labels: {app: pier}}
  status: {podIP: 10.244.1.6, conditions: [{type: Ready, status: "False"}]}
- kind: Pod
  metadata: {name: gauge-1, namespace: stations, labels: {app: gauge, kind: float}}
  status: {podIPs: [{ip: 10.244.2.7}, {ip: "fd44::7"}]}
- kind: Namespace
  metadata: {name: stations, labels: {field: "yes"}}
- kind: NetworkPolicy
  metadata: {name: from-stations, namespace: harbour}
  spec:
    podSelector: {matchLabels: {app: tidebook}}
    ingress:
    - from:
      - {namespaceSelector: {matchLabels: {field: "yes"}}, podSelector: {matchExpressions: [{key: kind, operator: In, values: [float]}]}}
      - ipBlock: {cidr: 10.20.0.0/16, except: [10.20.9.0/24]}
      ports: [{port: https}, {protocol: UDP, port: 5000, endPort: 5010}, {port: metrics}]
- kind: NetworkPolicy
  metadata: {name: nothing-out, namespace: stations}
  spec: {podSelector: {}, policyTypes: [Egress]}
- kind: Ingress
  metadata: {name: portal, namespace: harbour}
  spec: {rules: [{host: tidebook.varzea.example, http: {paths: [{path: /, backend: {service: {name: tidebook, port: {number: 80}}}}, {path: /x, backend: {service: {name: gone, port: {name: web}}}}]}}]}
- kind: ConfigMap
  metadata: {name: tides}
`

// shown is a sheet in few lines, to be compared.
func shown(t *testing.T, path, text string) (string, string) {
	t.Helper()
	s, notes, err := From(path, []byte(text))
	if err != nil {
		t.Fatal(err)
	}
	var b strings.Builder
	for _, l := range s.Layers {
		b.WriteString(l.Name + " [" + strings.Join(l.Guards, " ") + "]\n")
		for _, r := range l.In {
			b.WriteString(
				" in " + r.Do + " " + strings.Join(
					r.From,
					" ",
				) + " but " + strings.Join(
					r.NotFrom,
					" ",
				) + " " + r.Transport + " " + strings.Join(
					r.Ports,
					" ",
				) + "\n",
			)
		}
		for _, r := range l.Out {
			b.WriteString(
				" out " + r.Do + " " + strings.Join(r.To, " ") + " " + r.Transport + " " + strings.Join(r.Ports, " ") +
					"\n",
			)
		}
	}
	for _, f := range s.Forwards {
		b.WriteString(f.From + " -> " + strings.Join(f.To, " ") + " " + f.Why + "\n")
	}
	for _, r := range s.Routes {
		for _, entry := range r.Table {
			b.WriteString(strings.Join(r.For, " ") + ": " + entry.To + " via " + entry.Via + "\n")
		}
	}
	return b.String(), strings.Join(notes, "\n")
}

// TestFromCluster reads a cluster's objects.
func TestFromCluster(t *testing.T) {
	got, notes := shown(t, "harbour.yaml", harbour)
	want := `policies of harbour/tidebook-1, in (from-stations) [10.244.1.5]
 in allow 10.20.0.0/16 but 10.20.9.0/24 tcp 8443
 in allow 10.244.2.7 fd44::7 but  tcp 8443
 in allow 10.20.0.0/16 but 10.20.9.0/24 udp 5000-5010
 in allow 10.244.2.7 fd44::7 but  udp 5000-5010
 out allow   
policies of stations/gauge-1, out (nothing-out) [10.244.2.7 fd44::7]
 in allow  but   
10.96.0.10:443 -> 10.244.1.5:8443 
10.96.0.10:8443 ->  its port is sent to the name admin, which no container of harbour/tidebook-1 has (it has https 8443)
10.96.0.11:5432 ->  no pod has its labels (app=ledger)
10.96.0.12:80 ->  1 are picked, and none of them is ready
10.96.0.13:80 -> 10.244.3.3:8081 
[fd96::13]:80 -> 10.244.3.3:8081 
`
	if got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	for _, part := range []string{"names the port metrics, which no container of harbour/tidebook-1 has",
		"portal sends tidebook.varzea.example/ to the service tidebook, port 80, which it does not have",
		"to the service gone, which is not in the export", "ConfigMap tides says nothing"} {
		if !strings.Contains(notes, part) {
			t.Errorf("%s\nlacks %q", notes, part)
		}
	}
}

// TestFromGroups reads a cloud's security groups: what is in two of them takes
// what either allows.
func TestFromGroups(t *testing.T) {
	got, notes := shown(t, "cloud.json", `{"security_groups": [
 {"id": "a", "name": "portal", "security_group_rules": [
  {"direction": "ingress", "ethertype": "IPv4", "protocol": "tcp", "port_range_min": 443, "port_range_max": 443, "remote_ip_prefix": "10.20.7.0/24"},
  {"direction": "ingress", "ethertype": "IPv6", "protocol": "icmp"},
  {"direction": "ingress", "protocol": "sctp"}, {"direction": "ingress", "protocol": "tcp", "remote_group_id": "z"},
  {"direction": "egress", "ethertype": "IPv4", "protocol": null}]},
 {"id": "b", "name": "desks", "security_group_rules": [{"direction": "ingress", "protocol": "17", "port_range_min": 1, "port_range_max": 9, "remote_group_id": "a"}]},
 {"id": "c", "name": "empty", "security_group_rules": []}],
 "ports": [{"security_groups": ["b", "a"], "fixed_ips": [{"ip_address": "10.20.0.14"}]}, {"security_groups": ["a", "b"], "fixed_ips": [{"ip_address": "10.20.0.15"}]}],
 "routers": [{"name": "heron", "routes": [{"destination": "10.30.0.0/16", "nexthop": "10.20.0.2"}]}],
 "subnets": [{"name": "servers", "cidr": "10.20.0.0/24", "gateway_ip": "10.20.0.1", "host_routes": [{"destination": "10.20.7.0/24", "nexthop": "10.20.0.2"}]}]}`)
	want := `group portal and desks [10.20.0.14 10.20.0.15]
 in allow 10.20.7.0/24 but  tcp 443
 in allow ::/0 but  icmp 
 in allow portal but  udp 1-9
 out allow 0.0.0.0/0  
group empty [empty]
10.20.0.0/24: 10.20.7.0/24 via 10.20.0.2
10.20.0.0/24: 10.20.0.0/24 via the link
10.20.0.0/24: 0.0.0.0/0 via 10.20.0.1
`
	if got != want {
		t.Errorf("%s\nwant\n%s", got, want)
	}
	for _, part := range []string{"group empty is not in the export", "protocol sctp",
		"the group z, which is not in the export", "router heron sends 10.30.0.0/16"} {
		if !strings.Contains(notes, part) {
			t.Errorf("%s\nlacks %q", notes, part)
		}
	}
	alone, _ := shown(
		t,
		"rules.json",
		`{"security_group_rules": [{"security_group_id": "a", "direction": "ingress", "protocol": "tcp", `+
			`"port_range_min": 22, "port_range_max": 22}]}`,
	)
	if want := "group a [a]\n in allow 0.0.0.0/0 but  tcp 22\n"; alone != want {
		t.Errorf("%q, want %q", alone, want)
	}
}

// TestFromTable reads a table of rules, and says where one is wrong.
func TestFromTable(t *testing.T) {
	got, notes := shown(
		t,
		"t.csv",
		"\ufefflayer;direction;action;source;destination;protocol;port;guards\nedge;in;Permit;10.20.7.0/24;;TCP;443 "+
			"8443;10.20.0.0/24\nedge;out;drop;any;10.20.9.0/24;any;any;\n;;allow;*;;udp;53;\n",
	)
	want := `edge [10.20.0.0/24]
 in allow 10.20.7.0/24 but  tcp 443 8443
 out deny 10.20.9.0/24  
rules [rules]
 in allow  but  udp 53
`
	if got != want || !strings.Contains(notes, "which addresses the layer rules guards") {
		t.Errorf("%s\nwant\n%s\n%s", got, want, notes)
	}
	for text, want := range map[string]string{
		"layer,action,source\nedge,maybe,any\n":   `t:2:1: action "maybe"; expected allow or deny`,
		"layer,action,direction\nedge,allow,up\n": `t:2:1: direction "up"; expected in or out`,
		"layer,action,source\n\"edge,allow\n":     "t: ",
		"kind: List\nitems: []\n":                 "none is a network policy",
		"tides: 3\n":                              "t:1:1: nothing in it is known here",
		"[1, 2]\n":                                "t:1:1: ",
		"a: [\n":                                  "t:1:4: ",
		"":                                        "t:1:1: ",
	} {
		if _, _, err := From("t", []byte(text)); err == nil || !strings.Contains(err.Error(), want) ||
			strings.Contains(err.Error(), "\n") {
			t.Errorf("%q: %v, want %q", text, err, want)
		}
	}
	for i := range harbour { // no beginning of an export does more than fail
		if i%7 == 0 {
			From("t", []byte(harbour[:i]))
		}
	}
}
