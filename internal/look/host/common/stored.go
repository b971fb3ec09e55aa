package common

import (
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"runtime"
	"strconv"
	"strings"

	"github.com/jcmturner/gokrb5/v8/credentials"
	"github.com/jcmturner/gokrb5/v8/messages"
	"golang.org/x/crypto/ssh"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/sshclient"
	"uakari/internal/protocol"
)

// storedIn is, by the name of a place, what programs of a user take from it by
// themselves: the manuals of PostgreSQL ("The Password File"), MariaDB
// ("Configuring MariaDB with Option Files"), and netrc(5).
var storedIn = map[string]func(fact.Target) []kept{
	"service file":   one(fromServiceFile),
	"password file":  one(fromPgpass),
	"option file":    one(fromOptionFile),
	"netrc":          one(fromNetrc),
	"tickets":        func(fact.Target) []kept { return without(keptTickets()) },
	"SSH keys":       func(fact.Target) []kept { return without(ownKeys()) },
	"proxy accounts": func(t fact.Target) []kept { return without(proxyAccounts(t.Scheme)) },
}

// kept is a secret that a program would send by itself.
type kept struct {
	fact.StoredSecret
	secret string // "" for what is not compared
}

func one(from func(fact.Target) (place, account, secret string)) func(fact.Target) []kept {
	return func(t fact.Target) []kept {
		place, account, secret := from(t)
		if place == "" || secret == "" {
			return nil
		}
		return []kept{{fact.StoredSecret{Place: place, Account: account}, secret}}
	}
}

func without(list []fact.StoredSecret) []kept {
	var all []kept
	for _, s := range list {
		all = append(all, kept{StoredSecret: s})
	}
	return all
}

// Stored leaves the secrets for an endpoint that programs of this user would
// send by themselves: where each stands, and whether it is the one that was
// typed. The secrets stay where they are.
func Stored(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	s := fact.Stored{List: []fact.StoredSecret{}}
	scheme, _ := protocol.Lookup(order.Target.Scheme)
	for _, place := range protocol.Of(scheme.Wire).Stored {
		from, named := storedIn[place]
		if !named {
			from = one(fromEnvironment(place))
		}
		for _, k := range from(order.Target) {
			if env.Secret != "" && k.secret != "" {
				same := k.secret == env.Secret
				k.Same = &same
			}
			s.List = append(s.List, k.StoredSecret)
		}
	}
	if SystemStored != nil {
		s.List = append(s.List, SystemStored(order.Target.Name)...)
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

// fromServiceFile finds the password of the service that the environment names
// ("The Connection Service File"): it goes before all others.
func fromServiceFile(fact.Target) (place, account, secret string) {
	values, places := postgresService()
	return places["password"], values["user"], values["password"]
}

// proxyAccounts is the accounts for proxies that the environment holds: they
// are not for the endpoint, and go along all the same.
func proxyAccounts(scheme string) []fact.StoredSecret {
	for _, name := range []string{scheme + "_proxy", strings.ToUpper(scheme) + "_PROXY"} {
		if u, err := url.Parse(os.Getenv(name)); err == nil && u.User != nil {
			return []fact.StoredSecret{
				{Place: "the environment, " + name, Account: u.User.Username(), For: "the proxy"},
			}
		}
	}
	return nil
}

// keptTickets is those in the cache of this user, the newest last (MIT
// Kerberos, "Credential cache file format").
func keptTickets() []fact.StoredSecret {
	path, kind := os.Getenv("KRB5CCNAME"), ""
	if before, rest, ok := strings.Cut(path, ":"); ok {
		kind, path = before, rest
	}
	if path == "" {
		path = fmt.Sprintf("/tmp/krb5cc_%d", os.Getuid())
	}
	if kind != "" && kind != "FILE" {
		return nil // of another kind, which is not read
	}
	text, err := file.Head(path, MostSettings)
	if err != nil {
		return nil
	}
	var list []fact.StoredSecret
	func() {
		defer func() { recover() }() // the library, over a broken file
		var cache credentials.CCache
		if cache.Unmarshal(text) != nil {
			return
		}
		for _, c := range cache.Credentials {
			var ticket messages.Ticket
			if c.Server.Realm == "X-CACHECONF:" || ticket.Unmarshal(c.Ticket) != nil {
				continue
			}
			list = append(
				list,
				fact.StoredSecret{
					Place:   path,
					Account: c.Client.PrincipalName.PrincipalNameString() + "@" + c.Client.Realm,
					Ticket: &fact.KeptTicket{Ends: c.EndTime.UTC(),
						Ticket: fact.Ticket{
							Service:    c.Server.PrincipalName.PrincipalNameString() + "@" + c.Server.Realm,
							Version:    ticket.EncPart.KVNO,
							Encryption: int(ticket.EncPart.EType),
						}},
				},
			)
		}
	}()
	return list
}

// ownKeys is where SSH clients of this user take keys from, in their order.
func ownKeys() []fact.StoredSecret {
	var list []fact.StoredSecret
	if a, err := sshclient.OpenAgent(context.Background()); err == nil { // it bounds itself
		defer a.Close()
		if keys, err := a.List(); err == nil {
			for _, k := range keys {
				list = append(list, fact.StoredSecret{Place: "the agent, " + ssh.FingerprintSHA256(k)})
			}
		}
	}
	home, err := os.UserHomeDir()
	if err != nil {
		return list
	}
	for _, name := range []string{"id_rsa", "id_ecdsa", "id_ecdsa_sk", "id_ed25519", "id_ed25519_sk"} {
		if path := filepath.Join(home, ".ssh", name); fileThere(path) {
			list = append(list, fact.StoredSecret{Place: path})
		}
	}
	return list
}

func fileThere(path string) bool {
	_, err := os.Stat(path)
	return err == nil
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
	text, err := file.Head(path, MostSettings)
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
