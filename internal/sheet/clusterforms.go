package sheet

// document is one document of an export: an object of a Kubernetes cluster, of
// whatever kind (networking.k8s.io/v1, v1, discovery.k8s.io/v1), or an answer of
// OpenStack's networking API.
type document struct {
	SecurityGroups []securityGroup `yaml:"security_groups"`
	Rules          []groupRule     `yaml:"security_group_rules"`
	Routers        []router        `yaml:"routers"`
	Subnets        []subnet        `yaml:"subnets"`
	Ports          []any           `yaml:"ports"` // of an endpoint slice, or of the networking API

	Kind     string `yaml:"kind"`
	Metadata struct {
		Name      string            `yaml:"name"`
		Namespace string            `yaml:"namespace"`
		Labels    map[string]string `yaml:"labels"`
	} `yaml:"metadata"`
	Spec struct {
		// NetworkPolicy.
		PodSelector *selector    `yaml:"podSelector"`
		PolicyTypes []string     `yaml:"policyTypes"`
		Ingress     []policyRule `yaml:"ingress"`
		Egress      []policyRule `yaml:"egress"`
		// Service; the selector may be of another form in other kinds.
		Selector   any           `yaml:"selector"`
		ClusterIP  string        `yaml:"clusterIP"`
		ClusterIPs []string      `yaml:"clusterIPs"`
		Ports      []servicePort `yaml:"ports"`
		// Pod.
		Containers []struct {
			Ports []struct {
				Name     string `yaml:"name"`
				Port     int    `yaml:"containerPort"`
				Protocol string `yaml:"protocol"`
			} `yaml:"ports"`
		} `yaml:"containers"`
		// Ingress.
		Rules []struct {
			Host string `yaml:"host"`
			HTTP struct {
				Paths []struct {
					Path    string `yaml:"path"`
					Backend struct {
						Service struct {
							Name string `yaml:"name"`
							Port struct {
								Name   string `yaml:"name"`
								Number int    `yaml:"number"`
							} `yaml:"port"`
						} `yaml:"service"`
					} `yaml:"backend"`
				} `yaml:"paths"`
			} `yaml:"http"`
		} `yaml:"rules"`
	} `yaml:"spec"`
	Status struct {
		PodIP  string `yaml:"podIP"`
		PodIPs []struct {
			IP string `yaml:"ip"`
		} `yaml:"podIPs"`
		Conditions []struct {
			Type   string `yaml:"type"`
			Status string `yaml:"status"`
		} `yaml:"conditions"`
	} `yaml:"status"`
	Endpoints []struct {
		Addresses  []string `yaml:"addresses"`
		Conditions struct {
			Ready *bool `yaml:"ready"`
		} `yaml:"conditions"`
	} `yaml:"endpoints"`
	Items []document `yaml:"items"`
}

type selector struct {
	Labels      map[string]string `yaml:"matchLabels"`
	Expressions []struct {
		Key      string   `yaml:"key"`
		Operator string   `yaml:"operator"`
		Values   []string `yaml:"values"`
	} `yaml:"matchExpressions"`
}

type policyRule struct {
	From  []policyPeer `yaml:"from"`
	To    []policyPeer `yaml:"to"`
	Ports []struct {
		Protocol string `yaml:"protocol"`
		Port     any    `yaml:"port"`
		End      int    `yaml:"endPort"`
	} `yaml:"ports"`
}

type policyPeer struct {
	Pods       *selector `yaml:"podSelector"`
	Namespaces *selector `yaml:"namespaceSelector"`
	Block      *struct {
		CIDR   string   `yaml:"cidr"`
		Except []string `yaml:"except"`
	} `yaml:"ipBlock"`
}

type servicePort struct {
	Name     string `yaml:"name"`
	Port     int    `yaml:"port"`
	Target   any    `yaml:"targetPort"`
	Protocol string `yaml:"protocol"`
}

// slicePort is a port of an endpoint slice.
type slicePort struct {
	Name string `yaml:"name"`
	Port int    `yaml:"port"`
}
