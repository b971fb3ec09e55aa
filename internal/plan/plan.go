// Package plan reads plans of sweeps ("uakari.plan/1"): YAML files that say which
// endpoints are tried from which hosts. It does no input or output.
package plan

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"uakari/internal/endpoint"
	"uakari/internal/yamlfile"
)

// Format names the file format.
const Format = "uakari.plan/1"

// Bounds on a plan.
const (
	MostBytes     = 32 << 20
	mostEndpoints = 200_000
	mostClients   = 20_000
	mostWide      = 256
	usualWide     = 32
)

// Plan is a plan.
type Plan struct {
	Format    string   `yaml:"format"`
	Name      string   `yaml:"name"`
	Endpoints []string `yaml:"endpoints"`
	Clients   []Client `yaml:"clients"`
	// Servers is hosts that are looked at beside every client: logins by SSH.
	Servers []string `yaml:"servers"`
	// Wide is how many traces run side by side.
	Wide int `yaml:"wide"`
}

// Client is a host to look from, in one of five ways, with what is known of it.
type Client struct {
	Here   bool              `yaml:"here"`
	At     string            `yaml:"at"`     // a login by SSH
	Record string            `yaml:"record"` // a file, or a pattern of files
	In     string            `yaml:"in"`     // a container or namespace of this host
	Hosts  string            `yaml:"hosts"`  // a file: a login a line, with its tags behind it
	Known  string            `yaml:"known"`  // a pattern of hosts of the user's SSH settings
	Tags   map[string]string `yaml:"tags"`
}

// kinds is how many ways of looking a client names.
func (c Client) kinds() int {
	n := 0
	for _, named := range []bool{c.Here, c.At != "", c.Record != "", c.In != "", c.Hosts != "", c.Known != ""} {
		if named {
			n++
		}
	}
	return n
}

// Parse reads a plan; path names it in errors, with line and column.
func Parse(path string, text []byte) (*Plan, error) {
	var p Plan
	if err := yamlfile.Decode(path, text, &p); err != nil {
		return nil, err
	}
	places, err := yamlfile.PlacesOf(path, text)
	if err != nil {
		return nil, err
	}
	switch {
	case p.Format != Format:
		return nil, places.Wrong("$.format", "format %q; expected %q", p.Format, Format)
	case len(p.Endpoints) == 0:
		return nil, places.Wrong("$.endpoints", "the plan has no endpoints; expected a list of them")
	case len(p.Endpoints) > mostEndpoints:
		return nil, places.Wrong("$.endpoints", "%d endpoints; expected at most %d", len(p.Endpoints), mostEndpoints)
	case len(p.Clients) == 0:
		return nil, places.Wrong("$.clients", "the plan has no clients; expected a list, such as: - here: true")
	case p.Wide < 0 || p.Wide > mostWide:
		return nil, places.Wrong("$.wide", "%d; expected a number from 1 to %d", p.Wide, mostWide)
	}
	for i, e := range p.Endpoints {
		if _, err := endpoint.Parse(e); err != nil {
			return nil, places.Wrong(fmt.Sprintf("$.endpoints[%d]", i), "%v", err)
		}
	}
	for i, c := range p.Clients {
		at := fmt.Sprintf("$.clients[%d]", i)
		if c.kinds() != 1 {
			return nil, places.Wrong(at, "expected one of here, at, record, in, hosts and known")
		}
		for name := range c.Tags {
			if !tagName().MatchString(name) {
				return nil, places.Wrong(at+".tags", "tag %q; expected letters, digits, - and _", name)
			}
		}
	}
	if p.Wide == 0 {
		p.Wide = usualWide
	}
	return &p, nil
}

var tagName = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^[A-Za-z0-9_-]{1,40}$`) })

// TagList is tags as features, sorted: "image: kiosk-3".
func TagList(tags map[string]string) []string {
	var list []string
	for name, value := range tags {
		list = append(list, name+": "+value)
	}
	slices.Sort(list)
	return list
}

// Inventory reads a file of hosts: a login a line, and tags behind it, as in
// "root@gauge-07 image=kiosk-3 site=north". A line that begins with # is passed
// over. Errors say the line.
func Inventory(path, text string) ([]Client, error) {
	var list []Client
	for i, line := range strings.Split(text, "\n") {
		fields := strings.Fields(line)
		if len(fields) == 0 || strings.HasPrefix(fields[0], "#") {
			continue
		}
		c := Client{At: fields[0], Tags: map[string]string{}}
		for _, each := range fields[1:] {
			name, value, ok := strings.Cut(each, "=")
			if !ok || !tagName().MatchString(name) || value == "" {
				return nil, fmt.Errorf("%s:%d: %q; expected NAME=VALUE behind the host", path, i+1, each)
			}
			c.Tags[name] = value
		}
		if list = append(list, c); len(list) > mostClients {
			return nil, fmt.Errorf("%s:%d: more than %d hosts", path, i+1, mostClients)
		}
	}
	return list, nil
}
