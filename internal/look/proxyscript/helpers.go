package proxyscript

import (
	"net/netip"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/dop251/goja"
)

// mostLookups bounds how many names one script may have looked up.
const mostLookups = 20

// lend gives a script the helpers that browsers have.
func lend(vm *goja.Runtime, w World, line *int) error {
	lookups := 0
	resolve := func(name string) []netip.Addr {
		if addr, err := netip.ParseAddr(name); err == nil {
			return []netip.Addr{addr}
		}
		if lookups++; lookups > mostLookups || w.Resolve == nil {
			return nil
		}
		return w.Resolve(name)
	}
	four := func(name string) (netip.Addr, bool) {
		for _, a := range resolve(name) {
			if a.Unmap().Is4() {
				return a.Unmap(), true
			}
		}
		return netip.Addr{}, false
	}
	within := func(host, pattern, mask string) bool {
		addr, ok := four(host)
		net, errNet := netip.ParseAddr(pattern)
		bits, errMask := netip.ParseAddr(mask)
		if !ok || errNet != nil || errMask != nil || !net.Is4() || !bits.Is4() {
			return false
		}
		a, n, m := addr.As4(), net.As4(), bits.As4()
		for i := range a {
			if a[i]&m[i] != n[i]&m[i] {
				return false
			}
		}
		return true
	}
	helpers := map[string]any{
		"isPlainHostName":     func(host string) bool { return !strings.Contains(host, ".") },
		"dnsDomainIs":         dnsDomainIs,
		"localHostOrDomainIs": localHostOrDomainIs,
		"isResolvable":        func(host string) bool { _, ok := four(host); return ok },
		"isResolvableEx":      func(host string) bool { return len(resolve(host)) > 0 },
		"isInNet":             within,
		"isInNetEx": func(host, prefix string) bool {
			net, err := netip.ParsePrefix(prefix)
			inside := func(a netip.Addr) bool { return net.Contains(a.Unmap()) }
			return err == nil && slices.ContainsFunc(resolve(host), inside)
		},
		"dnsResolve": func(host string) any {
			if a, ok := four(host); ok {
				return a.String()
			}
			return goja.Null()
		},
		"dnsResolveEx": func(host string) string { return joined(resolve(host)) },
		"myIpAddress": func() string {
			if w.Own.Unmap().Is4() {
				return w.Own.Unmap().String()
			}
			return "127.0.0.1"
		},
		"myIpAddressEx": func() string {
			if w.Own.IsValid() {
				return w.Own.String()
			}
			return ""
		},
		"sortIpAddressList": func(list string) string { return list },
		"getClientVersion":  func() string { return "1.0" },
		"dnsDomainLevels":   func(host string) int { return strings.Count(host, ".") },
		"shExpMatch":        shExpMatch,
		"weekdayRange":      func(c goja.FunctionCall) goja.Value { return vm.ToValue(weekdayRange(w.Now, words(c))) },
		"dateRange":         func(c goja.FunctionCall) goja.Value { return vm.ToValue(dateRange(w.Now, words(c))) },
		"timeRange":         func(c goja.FunctionCall) goja.Value { return vm.ToValue(timeRange(w.Now, words(c))) },
		"alert":             func(goja.FunctionCall) goja.Value { return goja.Undefined() },
		"uakariLine": func(n int) bool {
			if line != nil {
				*line = n
			}
			return true
		},
	}
	for name, helper := range helpers {
		if err := vm.Set(name, helper); err != nil {
			return err
		}
	}
	return nil
}

func words(c goja.FunctionCall) []string {
	var list []string
	for _, a := range c.Arguments {
		list = append(list, strings.ToUpper(a.String()))
	}
	return list
}

func joined(list []netip.Addr) string {
	var parts []string
	for _, a := range list {
		parts = append(parts, a.String())
	}
	return strings.Join(parts, ";")
}

func dnsDomainIs(host, domain string) bool {
	return strings.HasSuffix(strings.ToLower(host), strings.ToLower(domain))
}

// localHostOrDomainIs is an exact name, or its first part alone.
func localHostOrDomainIs(host, whole string) bool {
	host, whole = strings.ToLower(host), strings.ToLower(whole)
	return host == whole || !strings.Contains(host, ".") && strings.HasPrefix(whole, host+".")
}

// shExpMatch is a pattern of shells: * for anything, ? for any one character.
func shExpMatch(text, pattern string) bool {
	quoted := regexp.QuoteMeta(pattern)
	quoted = strings.NewReplacer(`\*`, ".*", `\?`, ".").Replace(quoted)
	matches, err := regexp.MatchString("(?s)^"+quoted+"$", text)
	return err == nil && matches
}

// inZone takes the word GMT off the end, and gives the time in that zone, else in the host's.
func inZone(now time.Time, args []string) (time.Time, []string) {
	if n := len(args); n > 0 && args[n-1] == "GMT" {
		return now.UTC(), args[:n-1]
	}
	return now.Local(), args
}

var weekdays = []string{"SUN", "MON", "TUE", "WED", "THU", "FRI", "SAT"}

func weekdayRange(now time.Time, args []string) bool {
	now, args = inZone(now, args)
	if len(args) == 0 || len(args) > 2 {
		return false
	}
	from, to := slices.Index(weekdays, args[0]), slices.Index(weekdays, args[len(args)-1])
	return from >= 0 && to >= 0 && between(int(now.Weekday()), from, to)
}

// between is a place in a range that may go over its end.
func between(at, from, to int) bool {
	if from <= to {
		return from <= at && at <= to
	}
	return at >= from || at <= to
}

var months = []string{"JAN", "FEB", "MAR", "APR", "MAY", "JUN", "JUL", "AUG", "SEP", "OCT", "NOV", "DEC"}

// dateRange is days, months and years, each alone or as a pair of such lists.
func dateRange(now time.Time, args []string) bool {
	now, args = inZone(now, args)
	if len(args) == 0 || len(args) > 6 {
		return false
	}
	half := len(args) / 2
	if len(args) == 1 {
		half = 1
	}
	from, to := args[:half], args[len(args)-half:]
	value := func(parts []string) (number, at int, ok bool) {
		year, month, day := 0, 0, 0
		hasYear, hasMonth, hasDay := false, false, false
		for _, p := range parts {
			n, err := strconv.Atoi(p)
			switch m := slices.Index(months, p); {
			case m >= 0:
				month, hasMonth = m+1, true
			case err == nil && n > 31:
				year, hasYear = n, true
			case err == nil && n > 0:
				day, hasDay = n, true
			default:
				return 0, 0, false
			}
		}
		if hasYear {
			number, at = number*10000+year, at*10000+now.Year()
		}
		if hasMonth {
			number, at = number*100+month, at*100+int(now.Month())
		}
		if hasDay {
			number, at = number*100+day, at*100+now.Day()
		}
		return number, at, true
	}
	a, at, ok := value(from)
	b, _, okToo := value(to)
	return ok && okToo && between(at, a, b)
}

// timeRange is an hour, a range of hours, or of hours with minutes and seconds; as browsers
// take it, what is named last is in it to its end.
func timeRange(now time.Time, args []string) bool {
	now, args = inZone(now, args)
	numbers := make([]int, 0, len(args))
	for _, a := range args {
		n, err := strconv.Atoi(a)
		if err != nil {
			return false
		}
		numbers = append(numbers, n)
	}
	at := now.Hour()*3600 + now.Minute()*60 + now.Second()
	switch n := numbers; len(n) {
	case 1:
		return now.Hour() == n[0]
	case 2:
		return between(now.Hour(), n[0], n[1])
	case 4:
		return between(at, n[0]*3600+n[1]*60, n[2]*3600+n[3]*60+59)
	case 6:
		return between(at, n[0]*3600+n[1]*60+n[2], n[3]*3600+n[4]*60+n[5])
	}
	return false
}
