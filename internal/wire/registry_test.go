package wire

import (
	"reflect"
	"testing"

	"uakari/internal/protocol"
)

// TestProtocols sees that what is known of protocols and what is spoken fit, and
// that no property is empty without a reason.
func TestProtocols(t *testing.T) {
	known := map[string]bool{}
	for _, p := range protocol.All {
		if len(p.Schemes) == 0 {
			t.Errorf("%s has no scheme", p.Name)
		}
		if p.Over != "" || p.Mute {
			continue
		}
		known[p.Name] = true
		spoken, ok := Protocols[p.Name]
		asked := spoken.Ask != nil || spoken.Greet != nil
		if !(ok && asked) {
			t.Errorf("%s is known and not spoken", p.Name)
		}
		open := true
		for _, s := range p.Schemes {
			open = open && s.Open
		}
		if _, tried := Logins[p.Name]; tried && len(p.Codes) == 0 {
			t.Errorf("%s has a login, and no codes", p.Name)
		}
		properties := []string{"Codes", "Log", "Stored", "Door", "Alive"}
		if open {
			properties = properties[3:]
		}
		for _, name := range properties {
			if given, why := !reflect.ValueOf(*p).FieldByName(name).IsZero(), p.Without[name]; given == (why != "") {
				t.Errorf("%s: %s is given: %v; the reason that it is not: %q", p.Name, name, given, why)
			}
		}
	}
	for name := range Protocols {
		if !known[name] {
			t.Errorf("%s is spoken and not known", name)
		}
	}
	names := map[string]string{}
	for _, s := range protocol.Schemes {
		for _, name := range append(s.Aliases, s.Name) {
			if names[name] != "" {
				t.Errorf("%s is %s and %s", name, names[name], s.Name)
			}
			names[name] = s.Name
		}
	}
}
