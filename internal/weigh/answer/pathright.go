package answer

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"sync"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/weigh/catalogue"
	"uakari/internal/weigh/gate"
	"uakari/internal/weigh/scene"
)

// deniedFile is how web servers log a file that they may not read: nginx, and
// Apache's "AH00035" and "AH00132".
var deniedFile = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(
		`(?:open\(\) "|")(/[^"]+)" (?:failed|is forbidden) \(13: Permission denied\)|` +
			`\(13\)Permission denied: .*?access to (/\S+) denied \(filesystem path '(/[^']+)'\)`,
	)
})

// pathReading reads an answer of "forbidden" whose reason is a file, or a
// folder above it, that the web server's own account may not enter.
func pathReading(v *scene.Scene, w *scene.Wants, t *scene.Try, r gate.Reading, reply fact.Reply) (gate.Reading, bool) {
	if reply.Status != 403 && reply.Status != 404 && reply.Status != 500 || t.Server == "" || !v.Protocol.Web {
		return r, false
	}
	w.Add(
		scene.Want{
			Look:   fact.LookService,
			At:     fact.Server,
			On:     t.Server,
			Target: fact.Target{Port: t.Target.Port, Scheme: t.Target.Scheme, Again: 1},
			Gate:   gate.Answer,
		},
	)
	for _, s := range v.Facts(t.Server, fact.LookService) {
		if s.Service == nil || s.Order.Target.Again != 1 {
			continue
		}
		p, _ := v.Chosen(s.Service.Programs)
		if p == nil {
			continue
		}
		worker := ""
		for _, proc := range p.Processes {
			if proc.User != "" && proc.User != "root" {
				worker = proc.User
			}
		}
		path, line := deniedIn(p, reply)
		if path == "" || worker == "" {
			continue
		}
		target := fact.Target{Account: worker, Path: path}
		w.Add(scene.Want{Look: fact.LookPathRight, At: fact.Server, On: t.Server, Target: target, Gate: gate.Answer})
		for _, f := range v.Facts(t.Server, fact.LookPathRight) {
			if f.PathRight == nil || f.Order.Target != target || f.PathRight.Why == "" {
				continue
			}
			at := f.PathRight
			r.Cause, r.Harmless, r.Because = "login/path-right", false, gate.Union(r.Because, scene.FactIDs(s, f))
			r.Summary = fmt.Sprintf(
				"%s answers %d because %s; its log: \"%s\"",
				p.Name,
				reply.Status,
				at.Why,
				foreign.Shortened(line),
			)
			r.Values = v.Place(
				t,
				catalogue.Values{"user": worker, "level": at.Level, "mode": at.Mode, "chmod": at.Grant},
			)
			return r, true
		}
	}
	return r, false
}

// ofRequest reports whether a line speaks of the path that was asked for.
func ofRequest(line, asked string) bool {
	if _, request, ok := strings.Cut(line, `request: "`); ok {
		_, path, _ := strings.Cut(request, " ")
		path, _, _ = strings.Cut(path, " ")
		path, _, _ = strings.Cut(path, "?")
		return path == asked
	}
	return strings.Contains(line, "access to "+asked+" denied")
}

// deniedIn is the file of the newest log line that tells of one that was
// denied, for the path that was asked for.
func deniedIn(p *fact.Program, reply fact.Reply) (path, line string) {
	_, asked, _ := strings.Cut(reply.Asked, " ")
	asked, _, _ = strings.Cut(asked, "?")
	for _, file := range p.Logs {
		for _, each := range slices.Backward(file.Lines) {
			m := deniedFile().FindStringSubmatch(each)
			if m == nil || !ofRequest(each, asked) {
				continue
			}
			if m[3] != "" {
				return m[3], each
			}
			return m[1], each
		}
	}
	return "", ""
}
