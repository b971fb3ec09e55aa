package host

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/look"
)

// storedFor is, by protocol, where programs of a user take a secret from by
// themselves, the one that wins first: the manuals of PostgreSQL ("The
// Password File"), MariaDB ("Configuring MariaDB with Option Files"), Redis,
// and netrc(5).
var storedFor = map[string][]func(fact.Target) (place, account, secret string){
	"postgres": {fromEnvironment("PGPASSWORD"), fromPgpass},
	"mysql":    {fromOptionFile, fromEnvironment("MYSQL_PWD")},
	"mariadb":  {fromOptionFile, fromEnvironment("MYSQL_PWD")},
	"redis":    {fromEnvironment("REDISCLI_AUTH")},
	"http":     {fromNetrc},
	"https":    {fromNetrc},
}

// Stored leaves the secrets for an endpoint that programs of this user would
// send by themselves: where each stands, and whether it is the one that was
// typed. The secrets stay where they are.
func Stored(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	s := fact.Stored{List: []fact.StoredSecret{}}
	for _, from := range storedFor[order.Target.Scheme] {
		place, account, secret := from(order.Target)
		if place == "" || secret == "" {
			continue
		}
		one := fact.StoredSecret{Place: place, Account: account}
		if env.Secret != "" {
			same := secret == env.Secret
			one.Same = &same
		}
		s.List = append(s.List, one)
	}
	saw := "none"
	if len(s.List) > 0 {
		saw = "one in " + s.List[0].Place
	}
	f := env.Seen(order, "stored secrets", saw)
	f.Stored = &s
	emit(f)
}

func fromEnvironment(name string) func(fact.Target) (place, account, secret string) {
	return func(fact.Target) (string, string, string) {
		if secret := os.Getenv(name); secret != "" {
			return "the environment, " + name, "", secret
		}
		return "", "", ""
	}
}

// inHome is a file of the user's, or the one that a variable names.
func inHome(variable, name string) (path string, text []byte) {
	path = os.Getenv(variable)
	if path == "" {
		home, err := os.UserHomeDir()
		if err != nil {
			return "", nil
		}
		path = filepath.Join(home, name)
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return "", nil // programs pass over a file that is not there, too
	}
	return path, text
}

// fromPgpass finds the first line that fits. The file is passed over, as the
// library does, if others may read it.
func fromPgpass(t fact.Target) (place, account, secret string) {
	path, text := inHome("PGPASSFILE", ".pgpass")
	if info, err := os.Stat(path); err != nil || runtime.GOOS != "windows" && info.Mode().Perm()&0o077 != 0 {
		return "", "", ""
	}
	database, _, _ := strings.Cut(strings.Trim(t.Path, "/"), "?")
	if database == "" {
		database = t.Account
	}
	want := []string{t.Name, strconv.Itoa(int(t.Port)), database, t.Account}
	number := 0
	for line := range strings.Lines(string(text)) {
		number++
		fields := splitEscaped(strings.TrimRight(line, "\r\n"))
		if len(fields) < 5 || strings.HasPrefix(line, "#") {
			continue
		}
		fits := true
		for i, w := range want {
			fits = fits && (fields[i] == "*" || fields[i] == w)
		}
		if fits {
			return fmt.Sprintf("%s:%d", path, number), fields[3], fields[4]
		}
	}
	return "", "", ""
}

// splitEscaped splits at colons that no backslash precedes.
func splitEscaped(line string) []string {
	fields := []string{""}
	for i := 0; i < len(line); i++ {
		switch {
		case line[i] == '\\' && i+1 < len(line):
			i++
			fields[len(fields)-1] += line[i : i+1]
		case line[i] == ':' && len(fields) < 5:
			fields = append(fields, "")
		default:
			fields[len(fields)-1] += line[i : i+1]
		}
	}
	return fields
}

// fromOptionFile finds the password of the section for clients.
func fromOptionFile(fact.Target) (place, account, secret string) {
	path, text := inHome("", ".my.cnf")
	number, client := 0, false
	for line := range strings.Lines(string(text)) {
		number++
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			client = line == "[client]" || line == "[client-mariadb]" || line == "[client-server]"
			continue
		}
		key, value, ok := strings.Cut(line, "=")
		value = strings.Trim(strings.TrimSpace(value), `'"`)
		switch key = strings.TrimSpace(key); {
		case !client || !ok:
		case key == "password":
			place, secret = fmt.Sprintf("%s:%d", path, number), value
		case key == "user":
			account = value
		}
	}
	return place, account, secret
}

// fromNetrc finds the entry of a machine, or the default one.
func fromNetrc(t fact.Target) (place, account, secret string) {
	path, text := inHome("NETRC", ".netrc")
	number, ours, next := 0, false, ""
	for line := range strings.Lines(string(text)) {
		number++
		for word := range strings.FieldsSeq(line) {
			switch {
			case next == "machine":
				if ours && secret != "" {
					return place, account, secret
				}
				ours, next = word == t.Name, ""
			case next == "login":
				if ours {
					account = word
				}
				next = ""
			case next == "password":
				if ours {
					place, secret = fmt.Sprintf("%s:%d", path, number), word
				}
				next = ""
			case word == "default":
				if ours && secret != "" {
					return place, account, secret
				}
				ours = true
			default:
				next = word
			}
		}
	}
	return place, account, secret
}
