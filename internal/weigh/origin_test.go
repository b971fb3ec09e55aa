package weigh

import (
	"fmt"
	"math"
	"slices"
	"testing"

	"uakari/internal/fact"
	"uakari/internal/redact"
	"uakari/internal/trail"
)

// TestExact compares with values that are counted by hand.
func TestExact(t *testing.T) {
	for _, c := range []struct {
		with, of, others, ofOthers int
		want                       float64
	}{
		{4, 4, 0, 6, 1.0 / 210},         // the one way of ten over four that has all of them
		{3, 4, 1, 6, (4*6 + 1) / 210.0}, // 3 and 1, or 4 and 0
		{1, 1, 0, 1, 1.0 / 2},           // two hosts tell nothing
		{2, 4, 3, 6, 1 - (6+60)/252.0},  // 2 or more of the four, of five in ten
		{0, 3, 0, 3, 1},
		{3, 3, 3, 3, 1},
	} {
		if got := exact(c.with, c.of, c.others, c.ofOthers); math.Abs(got-c.want) > 1e-9 {
			t.Errorf("%+v: %v", c, got)
		}
	}
}

// TestOrigin looks for what failing hosts have in common, and tells it only
// beyond chance.
func TestOrigin(t *testing.T) {
	const endpoint = "https://tidebook.varzea.example/"
	row := func(n int, fails bool, features ...string) trail.SweepRow {
		r := trail.SweepRow{
			Client:   fmt.Sprintf("gauge-%02d", n),
			Endpoint: endpoint,
			Outcome:  trail.OutcomeClear,
			Features: features,
		}
		if fails {
			r.Outcome, r.Cause, r.Certainty = trail.OutcomeFault, "names/hosts-file", trail.Proven
		}
		return r
	}
	some := func(n int, of func(i int) trail.SweepRow) (rows []trail.SweepRow) {
		for i := range n {
			rows = append(rows, of(i))
		}
		return rows
	}
	image := func(i int) string { return fmt.Sprintf("image: kiosk-%d", map[bool]int{true: 3, false: 2}[i < 4]) }
	for _, c := range []struct {
		name   string
		rows   []trail.SweepRow
		origin string // "": none
		also   []string
	}{
		{"one image", some(10, func(i int) trail.SweepRow { return row(i, i < 4, image(i), "site: north") }),
			"image: kiosk-3", nil},
		{"a tag before what was seen", some(10, func(i int) trail.SweepRow {
			if i < 4 {
				return row(i, true, "gateway: 10.20.7.1", image(i))
			}
			return row(i, false, image(i))
		}), "image: kiosk-3", []string{"gateway: 10.20.7.1"}},
		{"too few to tell", some(4, func(i int) trail.SweepRow {
			return row(i, i < 2,
				fmt.Sprintf("image: kiosk-%d", i/2))
		}), "", nil},
		{"all have it", some(10, func(i int) trail.SweepRow { return row(i, i < 4, "site: north") }), "", nil},
		{"nobody reaches it", some(10, func(i int) trail.SweepRow { return row(i, true, image(i)) }), "", nil},
		{"hosts that nobody could look from count for nothing",
			append(some(10, func(i int) trail.SweepRow { return row(i, i < 4, image(i)) }),
				some(10, func(i int) trail.SweepRow {
					return trail.SweepRow{Client: fmt.Sprintf("gauge-%02d", 20+i), Endpoint: endpoint,
						Unseen: "no way there", Features: []string{"image: kiosk-3"}}
				})...), "image: kiosk-3", nil},
		{"other endpoints count for nothing", append(some(4,
			func(i int) trail.SweepRow { return row(i, true, "image: kiosk-3") }),
			some(9, func(i int) trail.SweepRow {
				r := row(20+i, false, "image: kiosk-2")
				r.Endpoint = "tcp://10.20.0.14:22"
				return r
			})...), "", nil},
	} {
		groups := GroupSweep(c.rows)
		if len(groups) != 1 || groups[0].Cause != "names/hosts-file" {
			t.Errorf("%s: groups %+v", c.name, groups)
			continue
		}
		o := groups[0].Origin
		switch {
		case c.origin == "" && o != nil:
			t.Errorf("%s: %+v", c.name, *o)
		case c.origin != "" && (o == nil || o.Feature != c.origin || !slices.Equal(o.Also, c.also) || o.With != 4 ||
			o.Of != 4 || o.Others != 0 || o.OfOthers != 6):
			t.Errorf("%s: %+v", c.name, o)
		}
		if everybody := c.name == "nobody reaches it" ||
			c.name == "other endpoints count for nothing"; groups[0].Everybody != everybody {
			t.Errorf("%s: everybody %v", c.name, groups[0].Everybody)
		}
	}
}

// TestFeatures is what is seen of a client that a fault may come from, and nothing of
// the server.
func TestFeatures(t *testing.T) {
	redact.UseKey(func() []byte { return []byte("of this run") })
	defer redact.UseKey(nil)
	mark := redact.Mark("the text")
	s := newScene(t, web).holds("v1", gauge).holds("v2", tidebook)
	service := func(version string) func(*fact.Fact) {
		return func(f *fact.Fact) {
			f.Service = &fact.Service{Programs: []fact.Program{{
				Name: "upload", Package: fact.Package{Name: "upload", Version: version},
				Files: []fact.SettingsFile{
					{Path: "/etc/upload.conf", Mark: mark}, {Path: "/etc/secret", Mark: "00aa:1b2c"},
				},
			}}}
		}
	}
	s.add("v1", fact.LookService, fact.Target{}, service("1.2")).add("v2", fact.LookService, fact.Target{},
		service("9.9"))
	s.add("v1", fact.LookSettings, fact.Target{}, func(f *fact.Fact) {
		f.Settings = &fact.Settings{List: []fact.SettingSeen{
			{At: fact.SettingAt{File: "/etc/upload.conf", Key: "port"}, Value: "8443"},
			{At: fact.SettingAt{File: "/etc/upload.conf", Key: "token"}, Value: "…"},
		}}
	})
	got := Features(s.set)
	for want, there := range map[string]bool{
		"package: upload 1.2": true, "package: upload 9.9": false, "file: /etc/upload.conf, text " + mark: true,
		"setting: /etc/upload.conf, port = 8443": true, "setting: /etc/upload.conf, token = …": false,
	} {
		if slices.Contains(got, want) != there {
			t.Errorf("%s: %v in %q", want, !there, got)
		}
	}
}
