package plan

import (
	"reflect"
	"strings"
	"testing"
)

const whole = `format: uakari.plan/1
name: stations
endpoints: ["https://tidebook.varzea.example/"]
servers: [root@tidebook]
clients:
  - here: true
  - {at: root@gauge-07, tags: {image: kiosk-3, site: north}}
  - hosts: stations.txt
`

// TestParse reads a plan, and says of a wrong one what, where and what was
// expected.
func TestParse(t *testing.T) {
	p, err := Parse("stations.yaml", []byte(whole))
	if err != nil {
		t.Fatal(err)
	}
	if p.Wide != usualWide || len(p.Clients) != 3 || p.Clients[1].Tags["image"] != "kiosk-3" ||
		p.Servers[0] != "root@tidebook" {
		t.Errorf("%+v", p)
	}
	if got := TagList(p.Clients[1].Tags); !reflect.DeepEqual(got, []string{"image: kiosk-3", "site: north"}) {
		t.Errorf("tags %v", got)
	}
	for _, c := range []struct{ old, new, want string }{
		{"plan/1", "plan/2", "stations.yaml:1:9: format \"uakari.plan/2\"; expected \"uakari.plan/1\""},
		{`["https://tidebook.varzea.example/"]`, "[]", "stations.yaml:3:12: the plan has no endpoints"},
		{"https://tidebook", "nope://tidebook", "stations.yaml:3:13: "},
		{"here: true", "here: false", "stations.yaml:6:"},
		{"here: true", "here: true\n    at: root@gauge-08", "expected one of here, at, record, in, hosts and known"},
		{"image: kiosk-3", "'an image': kiosk-3", `tag "an image"; expected letters, digits, - and _`},
		{"name: stations", "wide: 257", "stations.yaml:2:7: 257; expected a number from 1 to 256"},
		{"name: stations", "wide: -1", "expected a number from 1 to 256"},
		{"servers:", "server:", "stations.yaml:4:"},
		{whole[strings.Index(whole, "clients:"):], "clients: []\n", "the plan has no clients"},
	} {
		text := strings.Replace(whole, c.old, c.new, 1)
		if text == whole {
			t.Fatalf("%q is not in the plan", c.old)
		}
		if _, err := Parse("stations.yaml", []byte(text)); err == nil || !strings.Contains(err.Error(), c.want) ||
			strings.Contains(err.Error(), "\n") {
			t.Errorf("%q for %q: %v, want %q", c.new, c.old, err, c.want)
		}
	}
}

// TestInventory reads hosts with their tags.
func TestInventory(t *testing.T) {
	list, err := Inventory("stations.txt", "# the north\n\nroot@gauge-07 image=kiosk-3 site=north\n  ana@gauge-08\n")
	if err != nil || len(list) != 2 || list[0].At != "root@gauge-07" || list[0].Tags["site"] != "north" ||
		len(list[1].Tags) != 0 {
		t.Errorf("%+v %v", list, err)
	}
	for _, wrong := range []string{"image", "image=", "=kiosk-3", "im age=x", "bild:x=y"} {
		if _, err := Inventory("stations.txt", "\nroot@gauge-07 "+wrong); err == nil ||
			!strings.HasPrefix(err.Error(), "stations.txt:2: ") ||
			!strings.Contains(err.Error(), "expected NAME=VALUE") {
			t.Errorf("%q: %v", wrong, err)
		}
	}
	if _, err := Inventory("stations.txt", strings.Repeat("root@gauge\n", mostClients+1)); err == nil ||
		!strings.Contains(err.Error(), "stations.txt:20001: more than 20000 hosts") {
		t.Errorf("%v", err)
	}
}
