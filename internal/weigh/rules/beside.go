package rules

import (
	"fmt"
	"path"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/filter"
	"uakari/internal/weigh/scene"
)

// Beside is what else at a host may stop packets, so that tables which say
// nothing against them do not open its gate; "" for nothing.
func Beside(v *scene.Scene, vantage string, h *filter.Host) string {
	tables := TablesOf(v, vantage)
	if tables == nil {
		return ""
	}
	if len(tables.Unread) > 0 {
		return strings.Join(tables.Unread, "; ")
	}
	if h.Rules != nil && len(h.Rules.Opaque) > 0 {
		return h.Rules.Opaque[0]
	}
	for _, f := range v.Facts(vantage, fact.LookBarriers) {
		if b := f.Barriers; b != nil {
			if g := groupProgram(v, vantage, b.Groups); g != nil {
				return fmt.Sprintf("a packet program of %s decides on %s", g.Group, g.Hook)
			}
			switch {
			case len(b.Programs) > 0:
				return "a packet program is attached (" + strings.Join(b.Programs, ", ") + ")"
			case b.Unread != "":
				return b.Unread
			case b.Policies > 0:
				return fmt.Sprintf("there are %d IPsec policies", b.Policies)
			}
			return ""
		}
	}
	return "packet programs were not looked for"
}

// groupProgram is a packet program that sees the endpoint's packets on a host:
// of the service's own control group, or of one around it. The address lists
// of systemd's units are programs too, and are read as what they are.
func groupProgram(v *scene.Scene, vantage string, list []fact.GroupProgram) *fact.GroupProgram {
	unit, listed := "", false
	if _, s := v.Service(vantage); s != nil {
		if p, _ := v.Chosen(s.Programs); p != nil && scene.MainUnit(p) != nil {
			u := scene.MainUnit(p)
			unit, listed = u.Name, len(u.Denies)+len(u.Allows) > 0
		}
	}
	for i, g := range list {
		own := unit != "" && path.Base(g.Group) == unit
		around := g.Group == "/" || strings.HasSuffix(g.Group, ".slice")
		switch {
		case own && listed && strings.HasPrefix(g.Name, "sd_fw_"):
		case own, around:
			return &list[i]
		}
	}
	return nil
}
