package sheet

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"

	"github.com/goccy/go-yaml"

	"uakari/internal/fact"
	"uakari/internal/yamlfile"
)

// From makes a sheet from what others export in an open form: the objects of a
// cluster (YAML or JSON), a cloud's security groups and routes (the JSON of
// OpenStack's networking API), or rules as a table (CSV). Notes say what it could
// not take over. Nothing is invented: what the export does not say is left empty.
func From(path string, text []byte) (*fact.Sheet, []string, error) {
	if table(text) {
		return fromTable(path, text)
	}
	if err := yamlfile.Sane(path, text); err != nil {
		return nil, nil, err
	}
	documents, err := documentsOf(path, text)
	if err != nil {
		return nil, nil, err
	}
	switch {
	case slices.ContainsFunc(documents, func(d document) bool { return d.Kind != "" }):
		return fromCluster(documents)
	case slices.ContainsFunc(documents,
		func(d document) bool { return len(d.SecurityGroups)+len(d.Routers)+len(d.Subnets)+len(d.Rules) > 0 }):
		return fromGroups(documents)
	}
	return nil, nil, fmt.Errorf(
		"%s:1:1: nothing in it is known here; expected a cluster's objects (kind: …), security_groups, routers or "+
			"subnets, or a table with columns such as layer,direction,action,source,port",
		path,
	)
}

// documentsOf reads every document of a text; what it does not know in them is
// passed over.
func documentsOf(path string, text []byte) ([]document, error) {
	decoder := yaml.NewDecoder(bytes.NewReader(text))
	var list []document
	for {
		var d document
		err := decode(decoder, &d)
		if errors.Is(err, io.EOF) {
			return list, nil
		}
		if err != nil {
			return nil, yamlfile.Placed(path, err)
		}
		list = append(list, d)
	}
}

// decode survives what the library goes down with.
func decode(d *yaml.Decoder, into *document) (err error) {
	defer func() {
		if recover() != nil {
			err = errors.New("this is not YAML or JSON that can be read")
		}
	}()
	return d.Decode(into)
}

// columns is the names that columns of a table of rules go by.
var columns = map[string][]string{
	"layer": {"layer", "group", "list", "policy"}, "side": {"direction", "side"}, "do": {"action", "do", "verdict"},
	"from": {"source", "from", "src"}, "to": {"destination", "to", "dst"},
	"transport": {"protocol", "transport", "proto"},
	"ports": {
		"ports",
		"port",
		"destination port",
		"dport",
	}, "name": {"name", "rule", "description"}, "guards": {"guards", "applies to", "for"},
	"kind": {"kind", "state"}, "order": {"order"},
}

// table reports whether a text is a table of rules: its first line names the
// action and more columns.
func table(text []byte) bool {
	first, _, _ := strings.Cut(strings.TrimPrefix(string(text), "\ufeff"), "\n")
	head := headOf(strings.Split(first, separatorOf(first)))
	_, does := head["do"]
	return does && len(head) > 2 && !strings.ContainsAny(first, "{:")
}

func separatorOf(line string) string {
	for _, s := range []string{";", "\t"} {
		if strings.Contains(line, s) {
			return s
		}
	}
	return ","
}

// headOf is the place of each column that is known, by what it is here.
func headOf(cells []string) map[string]int {
	head := map[string]int{}
	for i, cell := range cells {
		cell = strings.ToLower(strings.Trim(strings.TrimSpace(cell), `"`))
		for is, names := range columns {
			if slices.Contains(names, cell) {
				head[is] = i
			}
		}
	}
	return head
}

// actions is how tables write what a rule does.
var actions = map[string]string{
	"allow": "allow", "accept": "allow", "permit": "allow", "pass": "allow",
	"deny": "deny", "drop": "deny", "reject": "deny", "block": "deny",
}

// anything is how tables write that a cell names nothing in particular.
var anything = []string{"", "any", "*", "all", "-", "0.0.0.0/0", "::/0"}

// fromTable reads a table with a line for each rule.
func fromTable(path string, text []byte) (*fact.Sheet, []string, error) {
	text = bytes.TrimPrefix(text, []byte("\ufeff"))
	first, _, _ := strings.Cut(string(text), "\n")
	r := csv.NewReader(bytes.NewReader(text))
	r.Comma = rune(separatorOf(first)[0])
	r.FieldsPerRecord, r.TrimLeadingSpace = -1, true
	rows, err := r.ReadAll()
	if err != nil {
		return nil, nil, fmt.Errorf("%s: %w", path, err)
	}
	head := headOf(rows[0])
	s := &fact.Sheet{Format: Format, Name: "from-a-table", Groups: map[string][]string{}}
	var notes []string
	for i, row := range rows[1:] {
		cell := func(is string) string {
			at, ok := head[is]
			if !ok || at >= len(row) {
				return ""
			}
			return strings.TrimSpace(row[at])
		}
		if strings.Join(row, "") == "" {
			continue
		}
		do, ok := actions[strings.ToLower(cell("do"))]
		if !ok {
			return nil, nil, fmt.Errorf("%s:%d:1: action %q; expected allow or deny", path, i+2, cell("do"))
		}
		rule := fact.SheetRule{Name: cell("name"), Do: do, Transport: strings.ToLower(cell("transport"))}
		if slices.Contains(anything, rule.Transport) {
			rule.Transport = ""
		}
		rule.From, rule.To, rule.Ports = cellList(cell("from")), cellList(cell("to")), cellList(cell("ports"))
		l := layerNamed(s, or(cell("layer"), "rules"))
		if l.Kind == "" {
			l.Kind, l.Order, l.Otherwise = or(
				strings.ToLower(cell("kind")),
				"stateful",
			), or(
				strings.ToLower(cell("order")),
				"first",
			), "deny"
			l.Guards = cellList(cell("guards"))
			if len(l.Guards) == 0 {
				l.Guards = []string{l.Name}
				s.Groups[l.Name] = []string{}
				notes = append(
					notes,
					fmt.Sprintf(
						"the table does not say which addresses the layer %s guards: write them into the group %s",
						l.Name,
						l.Name,
					),
				)
			}
		}
		switch side := strings.ToLower(cell("side")); side {
		case "", "in", "inbound", "ingress":
			l.In = append(l.In, rule)
		case "out", "outbound", "egress":
			l.Out = append(l.Out, rule)
		default:
			return nil, nil, fmt.Errorf("%s:%d:1: direction %q; expected in or out", path, i+2, side)
		}
	}
	return s, notes, nil
}

// cellList is the parts of a cell; none where it names nothing in particular.
func cellList(text string) []string {
	if slices.Contains(anything, strings.ToLower(text)) {
		return nil
	}
	return strings.FieldsFunc(text, func(r rune) bool { return r == ',' || r == ' ' || r == ';' || r == '\n' })
}

// layerNamed is the layer of a name; it is made where there is none yet.
func layerNamed(s *fact.Sheet, name string) *fact.Layer {
	for i := range s.Layers {
		if s.Layers[i].Name == name {
			return &s.Layers[i]
		}
	}
	s.Layers = append(s.Layers, fact.Layer{Name: name})
	return &s.Layers[len(s.Layers)-1]
}

func or(text, otherwise string) string {
	if text == "" {
		return otherwise
	}
	return text
}
