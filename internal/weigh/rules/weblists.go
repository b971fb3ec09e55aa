package rules

import (
	"fmt"
	"net/netip"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/program"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// haproxyJudge evaluates the rules of HAProxy for sources.
func haproxyJudge(
	v *scene.Scene,
	t *scene.Try,
	a *fact.Access,
	source netip.Addr,
) (string, []gate.Symptom, string, listLine) {
	if v.ServedBy(t) != program.HAProxy {
		return "", nil, "", listLine{}
	}
	to := netip.AddrPortFrom(t.Target.Addr.Unmap().WithZone(""), t.Target.Port)
	rule, denies := program.HAProxyDenies(a.Files, source, to)
	if !denies {
		return "", nil, "", listLine{}
	}
	shows := turnedAwayFlatly
	if rule.Web {
		shows = []gate.Symptom{gate.ErrorAnswer}
	}
	line := listLine{
		file: rule.File.Path,
		text: fmt.Sprintf("line %d (%s)", rule.Number, rule.Text),
		// The first rule that fits decides.
		allow:   fmt.Sprintf("%s if { src %s }", letsIn(rule.Text), source),
		changed: rule.File.Changed,
		unsure:  rule.Unsure,
		later:   rule.Web,
	}
	return "rules/not-on-list", shows, fmt.Sprintf("%s, %s, turns %s away", line.file, line.text, source), line
}

// letsIn is the beginning of a rule that lets in what another turns away.
func letsIn(rule string) string {
	words := strings.Fields(rule)
	if words[0] == "http-request" {
		return "http-request allow"
	}
	return strings.Join(words[:2], " ") + " accept"
}

// nginxJudge evaluates allow and deny of nginx: in the location that answers,
// or the nearest block around it that has any, the first that matches decides.
func nginxJudge(
	v *scene.Scene,
	t *scene.Try,
	a *fact.Access,
	source netip.Addr,
) (string, []gate.Symptom, string, listLine) {
	// Where nobody got so far yet, it is what stands behind.
	if !v.Protocol.Web || t.Climb.Reply != nil && t.Climb.Reply.Reply.Status != 403 {
		return "", nil, "", listLine{}
	}
	var servers []*program.NginxBlock
	for i := range a.Files {
		if f := &a.Files[i]; f.Kind == fact.ListNginx {
			if program.NginxForwards(f.Lines) {
				return "", nil, "", listLine{} // another address than the connection's counts
			}
			servers = append(servers, program.NginxServers(f, a.Files)...)
		}
	}
	file, rule := program.NginxDenies(servers, source, t.Target)
	if file == nil {
		return "", nil, "", listLine{}
	}
	line := listLine{
		file:    file.Path,
		text:    fmt.Sprintf("line %d (%s)", rule.Number, rule.Text),
		allow:   "allow " + source.String() + ";",
		changed: file.Changed,
		later:   true,
	}
	return "rules/not-on-list", []gate.Symptom{
			gate.ErrorAnswer,
		}, fmt.Sprintf(
			"%s, %s, keeps %s out",
			line.file,
			line.text,
			source,
		), line
}
