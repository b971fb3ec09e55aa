package tell

import (
	"fmt"
	"net/netip"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"uakari/internal/fact"
	"uakari/internal/foreign"
)

// Ports is a host's listeners as a table, with the containers that some are held
// for.
func Ports(list fact.Listeners, containers []fact.Container, colour bool) string {
	p := paint{colour}
	if len(list.All) == 0 {
		return "Nobody listens" + because(list.Hidden) + ".\n"
	}
	now := time.Time{}
	for _, l := range list.All {
		if l.Since.After(now) {
			now = l.Since
		}
	}
	rows := [][]string{{"ADDRESS", "PORT", "QUEUE", "PROGRAM", "PID", "USER", "UNIT", "SINCE"}}
	full := map[int]bool{}
	for _, l := range list.All {
		full[len(rows)] = l.Full()
		rows = append(
			rows,
			[]string{
				address(l),
				fmt.Sprint(l.Port),
				queue(l),
				orDash(foreign.Printable(l.Program) + heldFor(l, containers)),
				pid(l),
				foreign.Printable(l.User),
				orDash(foreign.Printable(l.Unit)),
				day(l.Since),
			},
		)
	}
	var b strings.Builder
	table(&b, p, rows, []int{1, 4}, full)
	if list.Hidden != "" {
		b.WriteString("\nA dash: not seen; " + foreign.Printable(list.Hidden) + ".\n")
	}
	return b.String()
}

// heldFor is the container that a listener is held for, by the process that keeps it.
func heldFor(l fact.Listener, containers []fact.Container) string {
	for _, c := range containers {
		if c.Keeper != 0 && c.Keeper == l.PID {
			return " for " + foreign.Printable(c.Called())
		}
	}
	return ""
}

// table writes rows, the first of which is the head. Numbers stand to the
// right, and rows that are marked are red.
func table(b *strings.Builder, p paint, rows [][]string, numbers []int, marked map[int]bool) {
	widths := make([]int, len(rows[0]))
	for _, row := range rows {
		for i, cell := range row {
			widths[i] = max(widths[i], utf8.RuneCountInString(cell))
		}
	}
	for n, row := range rows {
		var line strings.Builder
		for i, cell := range row {
			gap := strings.Repeat(" ", widths[i]-utf8.RuneCountInString(cell))
			if slices.Contains(numbers, i) {
				line.WriteString(gap + cell + "  ")
			} else {
				line.WriteString(cell + gap + "  ")
			}
		}
		text := strings.TrimRight(line.String(), " ")
		switch {
		case n == 0:
			text = p.as(grey, text)
		case marked[n]:
			text = p.as(red, text)
		}
		b.WriteString(text + "\n")
	}
}

// Containers is what runs in containers as a table, a row for each port that is
// published or listened on; "" for none.
func Containers(list []fact.Container, colour bool) string {
	if len(list) == 0 {
		return ""
	}
	rows, marked := [][]string{{"CONTAINER", "STATE", "PUBLISHED", "INSIDE", "HELD THERE BY"}}, map[int]bool{}
	for _, c := range list {
		state := c.State
		if c.State == "exited" {
			state = fmt.Sprintf("exited with %d", c.ExitCode)
		}
		if c.Health != "" && c.Health != "healthy" {
			state += ", " + c.Health
		}
		add := func(published, inside, by string, wrong bool) {
			marked[len(rows)] = wrong
			rows = append(
				rows,
				[]string{
					foreign.Printable(c.Called()),
					orDash(foreign.Printable(state)),
					orDash(published),
					orDash(inside),
					orDash(by),
				},
			)
		}
		shown := map[uint16]bool{}
		for _, p := range c.Published {
			at := fmt.Sprint(p.Port)
			if p.Addr.IsValid() {
				at = netip.AddrPortFrom(p.Addr, p.Port).String()
			}
			by, wrong := "", c.Seen || c.State != "running"
			for _, l := range c.On(p.Transport, p.Inside) {
				by, wrong, shown[p.Inside] = foreign.Printable(l.Program), l.Addr.IsLoopback(), true
				if wrong {
					by += ", on loopback only"
				}
			}
			add(at, fmt.Sprint(p.Inside), by, wrong)
		}
		for _, l := range c.Listeners {
			if !shown[l.Port] && l.Transport != "udp" {
				shown[l.Port] = true
				by := foreign.Printable(l.Program)
				if l.Addr.IsLoopback() {
					by += ", on loopback only"
				}
				add("", fmt.Sprint(l.Port), by, false)
			}
		}
		if len(c.Published) == 0 && len(c.Listeners) == 0 {
			add("", "", "", false)
		}
	}
	var b strings.Builder
	b.WriteString("\nIn containers:\n")
	table(&b, paint{colour}, rows, []int{3}, marked)
	return b.String()
}

func because(hidden string) string {
	if hidden == "" {
		return ""
	}
	return " that can be seen; " + hidden
}

func address(l fact.Listener) string {
	text := l.Addr.String()
	if l.Addr.IsUnspecified() {
		text = "every IPv4"
		if l.Addr.Is6() {
			text = "every"
			if l.V6Only != nil && *l.V6Only {
				text = "every IPv6"
			}
		}
	}
	if l.Transport == "udp" {
		text += " (UDP)"
	}
	return text
}

func queue(l fact.Listener) string {
	switch {
	case l.Unqueued:
		return "-"
	case l.Transport == "udp":
		return fmt.Sprintf("%d bytes", l.Queue)
	case l.Limit == 1<<32-1:
		return fmt.Sprintf("%d of ?", l.Queue)
	}
	text := fmt.Sprintf("%d of %d", l.Queue, max(l.Limit, 1))
	if l.Full() {
		text += ", full"
	}
	return text
}

func orDash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

func pid(l fact.Listener) string {
	if l.PID == 0 {
		return "-"
	}
	return fmt.Sprint(l.PID)
}

func day(t time.Time) string {
	if t.IsZero() {
		return "-"
	}
	return t.Local().Format("2 Jan 15:04")
}

// Port says in a line who holds a port, or who would normally.
func Port(port uint16, held []fact.Listener, usual []string, local string) string {
	if len(held) == 0 {
		text := fmt.Sprintf("%d: nobody holds it", port)
		if len(usual) > 0 {
			text += "; it is the usual port of " + strings.Join(usual, " and ")
		}
		var low, high uint16
		if n, err := fmt.Sscanf(local, "%d-%d", &low, &high); err == nil && n == 2 && port >= low && port <= high {
			text += fmt.Sprintf(
				"; the kernel gives ports of %s to clients, so that anybody may have it for a while",
				local,
			)
		}
		return text + "\n"
	}
	var b strings.Builder
	for _, l := range held {
		who := foreign.Printable(l.Program)
		switch {
		case who == "" && l.Unit != "":
			who = foreign.Printable(l.Unit)
		case who == "":
			who = "a process of " + foreign.Printable(l.User) + " that was not shown"
		default:
			who = fmt.Sprintf("%s (pid %d, user %s", who, l.PID, foreign.Printable(l.User))
			if l.Unit != "" {
				who += ", " + foreign.Printable(l.Unit)
			}
			who += ")"
		}
		fmt.Fprintf(&b, "%d: held by %s on %s", port, who, address(l))
		if !l.Since.IsZero() {
			fmt.Fprintf(&b, " since %s", day(l.Since))
		}
		fmt.Fprintf(&b, ", queue %s\n", queue(l))
	}
	return b.String()
}

// Unit tells of one unit: the answer first, then what is known of it.
func Unit(name, host string, p fact.Program, manager string, at time.Time, colour bool) string {
	w := paint{colour}
	var b strings.Builder
	running := len(p.Here()) > 0
	var u fact.Unit
	if len(p.Units) > 0 {
		u = p.Units[0]
		running = running || u.Active == "active"
	}
	switch {
	case !running && len(p.Processes) > 0 && len(p.Units) == 0:
		b.WriteString(
			w.as(
				bold,
				fmt.Sprintf(
					"Not known: processes of %s run, and nobody could see on whose network; root could.",
					foreign.Printable(name),
				),
			) + "\n",
		)
	case running:
		b.WriteString(
			w.as(
				bold,
				w.as(green, fmt.Sprintf("Yes: %s runs on %s.", foreign.Printable(name), foreign.Printable(host))),
			) + "\n",
		)
	case p.Path == "" && (u.Load == "" || u.Load == "not-found"):
		b.WriteString(
			w.as(
				bold,
				w.as(red, fmt.Sprintf("No: %s is not installed on %s.",
					foreign.Printable(name), foreign.Printable(host))),
			) + "\n",
		)
	default:
		b.WriteString(
			w.as(
				bold,
				w.as(red, fmt.Sprintf("No: %s does not run on %s.", foreign.Printable(name), foreign.Printable(host))),
			) + "\n",
		)
	}
	line := func(head, text string) {
		if text != "" {
			block(&b, fmt.Sprintf("  %-9s ", head), strings.Repeat(" ", 12), foreign.Printable(text), width)
		}
	}
	b.WriteByte('\n')
	if manager != "" && u.Name != "" {
		state := u.Active
		if u.Sub != "" {
			state += " (" + u.Sub + ")"
		}
		if !u.Since.IsZero() {
			state += " since " + day(u.Since)
		}
		line("unit", fmt.Sprintf("%s, %s, %s", u.Name, u.Load, state))
		line("at boot", u.Enabled)
		if u.Result != "" && u.Result != "success" {
			result := u.Result
			if u.Status != 0 {
				result += fmt.Sprintf(", status %d", u.Status)
			}
			line("result", result)
		}
		if u.Restarts > 0 || u.Starts > 1 {
			line("starts", fmt.Sprintf("%d in the last day, %d by itself", u.Starts, u.Restarts))
		}
		line("needs", strings.Join(u.Down, ", "))
		line("condition", strings.Join(u.Failed, ", "))
		for i, block := range u.Blocked {
			head := "fails at"
			if i > 0 {
				head = ""
			}
			line(head, block.Text)
		}
		if u.Checked && len(u.Blocked) == 0 && u.Load == "loaded" {
			line("start", "nothing seen would stop its next start")
		}
	} else if manager == "" {
		line("unit", "no service manager runs here; processes alone decide")
	}
	for i, r := range p.Here() {
		if i == 3 {
			line("", fmt.Sprintf("and %d more", len(p.Here())-3))
			break
		}
		text := fmt.Sprintf("pid %d, state %s, since %s", r.PID, r.State, day(r.Since))
		if r.Limit > 0 {
			text += fmt.Sprintf(", %d of %d files open", r.Files, r.Limit)
		}
		line("process", text)
	}
	line("program", p.Path)
	for i, l := range u.Log {
		if running && i < len(u.Log)-3 || i < len(u.Log)-8 {
			continue
		}
		line("log", l.At.Local().Format("15:04:05")+" "+l.Text)
	}
	line("", u.Hidden)
	return b.String()
}
