//go:build linux

package linux

import (
	"bufio"
	"context"
	"encoding/binary"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"os/user"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"golang.org/x/crypto/ssh"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/file"
	"uakari/internal/look/host/common"
	"uakari/internal/look/host/programfiles"
	"uakari/internal/program"
	"uakari/internal/protocol"
)

// Account leaves the state of one account of this host, as far as its own
// files tell; or of all that they name, with a last fact of no account that
// says that there are no others.
func Account(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	if order.Target.Account != "" {
		account(ctx, env, order, emit)
		return
	}
	text, err := file.Head("/etc/passwd", file.MostStore)
	if err != nil {
		emit(env.Failed(order, "/etc/passwd", "could not read the accounts", err, ""))
		return
	}
	names := 0
	for line := range strings.Lines(string(text)) {
		name, _, ok := strings.Cut(line, ":")
		if !ok || name == "" {
			continue
		}
		if names++; names > mostAccounts {
			emit(
				env.Failed(
					order,
					"/etc/passwd",
					"could not keep every account",
					fmt.Errorf("more than %d", mostAccounts),
					"--user NAME",
				),
			)
			return
		}
		one := order
		one.Target.Account = name
		account(ctx, env, one, emit)
	}
	f := env.Seen(order, "/etc/passwd", fmt.Sprintf("%d accounts, and no others", names))
	f.Account = &fact.Account{Others: otherSources(), ClosedBy: closedBy()}
	emit(f)
}

func account(ctx context.Context, env look.Env, order fact.Order, emit look.Emit) {
	a := fact.Account{Name: order.Target.Account, Others: otherSources(), ClosedBy: closedBy()}
	fields, err := entryOf("/etc/passwd", a.Name)
	if err != nil {
		emit(env.Failed(order, "/etc/passwd", "could not read the accounts", err, ""))
		return
	}
	if len(fields) >= 7 {
		a.Known, a.UID, a.Home, a.Shell = true, fields[2], fields[5], fields[6]
		a.ShellWrong = shellWrong(a.Shell)
		a.Groups = groupsOf(a.Name)
		readShadow(&a)
		readFailures(&a, env.Clock())
		if protocol.Spoken(order.Target.Scheme).HostAccounts {
			pid := programsOn(ctx, env, order.Target.Port)[program.SSHD]
			if pid == 0 {
				pid = pidOf(programfiles.Shipped(program.SSHD))
			}
			readKeys(&a, pid)
			if asksPAM(onHost.SettingsOf(programfiles.Shipped(program.SSHD), pid)) {
				a.AccessFile, a.AccessRules = accessRules(program.SSHD)
			}
		}
	}
	f := env.Seen(order, "account "+a.Name, sawAccount(a))
	f.Account = &a
	emit(f)
}

func sawAccount(a fact.Account) string {
	switch {
	case !a.Known:
		return "not in /etc/passwd"
	case a.Locked:
		return "locked"
	case a.Deny > 0:
		return fmt.Sprintf("%d of %d failures that lock it", a.Failures, a.Deny)
	case !a.Shadow:
		return "known; its state is for root to read"
	}
	return "known, shell " + a.Shell
}

// entryOf is the fields of a name's line in a file of colon-separated fields;
// nil if there is none.
func entryOf(path, name string) ([]string, error) {
	f, err := file.Open(path)
	if err != nil {
		return nil, err
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	for lines.Scan() {
		if fields := strings.Split(lines.Text(), ":"); fields[0] == name {
			return fields, nil
		}
	}
	return nil, lines.Err()
}

// otherSources is where accounts come from beside this host's own files.
func otherSources() []string {
	text, err := file.Head("/etc/nsswitch.conf", common.MostSettings)
	if err != nil {
		return nil
	}
	for line := range strings.Lines(string(text)) {
		if rest, ok := strings.CutPrefix(strings.TrimSpace(line), "passwd:"); ok {
			return slices.DeleteFunc(strings.Fields(rest), func(s string) bool {
				return s == "files" || s == "compat" || s == "systemd" || strings.HasPrefix(s, "[")
			})
		}
	}
	return nil
}

// closedBy is the file that shuts logins for everybody but root; "" for none.
func closedBy() string {
	for _, path := range []string{"/etc/nologin", "/run/nologin", "/var/run/nologin"} {
		if _, err := os.Stat(path); err == nil {
			return path
		}
	}
	return ""
}

// shellWrong says why a login shell lets nobody work.
func shellWrong(shell string) string {
	switch base := filepath.Base(shell); {
	case shell == "":
		return "" // then it is the usual one
	case base == "nologin" || base == "false":
		return shell
	}
	if _, err := os.Stat(shell); errors.Is(err, fs.ErrNotExist) {
		return shell + ", which is not there"
	}
	return ""
}

func groupsOf(name string) []string {
	u, err := user.Lookup(name)
	if err != nil {
		return nil
	}
	ids, err := u.GroupIds()
	if err != nil {
		return nil
	}
	var groups []string
	for _, id := range ids {
		if g, err := user.LookupGroupId(id); err == nil {
			groups = append(groups, g.Name)
		}
	}
	return groups
}

// readShadow reads what shadow(5) says of an account, but for the hash.
func readShadow(a *fact.Account) {
	fields, err := entryOf("/etc/shadow", a.Name)
	if err != nil {
		a.Unread = append(a.Unread, "/etc/shadow: "+err.Error())
		return
	}
	if len(fields) < 8 {
		return
	}
	day := func(i int) (int64, bool) {
		n, err := strconv.ParseInt(fields[i], 10, 32)
		return n, err == nil
	}
	date := func(n int64) time.Time { return time.Unix(n*24*60*60, 0).UTC() }
	a.Shadow = true
	a.Locked = strings.HasPrefix(fields[1], "!") && len(fields[1]) > 2
	a.NoSecret = fields[1] == "*" || fields[1] == "!" || fields[1] == "!!" || fields[1] == "!*"
	changed, known := day(2)
	if known && changed == 0 {
		a.MustChange = true
	} else if most, ok := day(4); known && ok && most < 99999 {
		a.SecretEnds = date(changed + most)
	}
	if ends, ok := day(7); ok {
		a.Ends = date(ends)
	}
}

// Sizes and flags of pam_faillock's tally files (struct tally of its source).
const (
	tallySize  = 64
	tallyValid = 1
)

// usingFaillock is the files of PAM that name its module, for those who come in from
// outside.
var usingFaillock = []string{"/etc/pam.d/common-auth", "/etc/pam.d/sshd", "/etc/pam.d/system-auth",
	"/etc/pam.d/password-auth"}

// faillock is how pam_faillock is set: by its own file and, before that, by the words
// behind its module (faillock.conf(5), pam_faillock(8)).
type faillock struct {
	deny     int
	interval time.Duration
	folder   string
}

func (f *faillock) set(key, value string) {
	n, err := strconv.Atoi(strings.TrimSpace(value))
	switch key = strings.TrimSpace(key); {
	case key == "deny" && err == nil:
		f.deny = n
	case key == "fail_interval" && err == nil:
		f.interval = time.Duration(n) * time.Second
	case key == "dir":
		f.folder = strings.TrimSpace(value)
	}
}

// faillockOf reads the settings, from a text of its own file and those of PAM; false where
// those do not name the module.
func faillockOf(own []byte, pam ...[]byte) (faillock, bool) {
	f := faillock{deny: 3, interval: 900 * time.Second, folder: "/var/run/faillock"}
	for line := range strings.Lines(string(own)) {
		if key, value, ok := strings.Cut(line, "="); ok {
			f.set(key, value)
		}
	}
	used := false
	for _, text := range pam {
		for line := range strings.Lines(string(text)) {
			words := strings.Fields(line)
			if len(words) == 0 || strings.HasPrefix(words[0], "#") || !slices.Contains(words, "pam_faillock.so") {
				continue
			}
			used = true
			for _, word := range words {
				if key, value, ok := strings.Cut(word, "="); ok {
					f.set(key, value)
				}
			}
		}
	}
	return f, used
}

// readFailures reads how many failures are counted, and how many lock.
func readFailures(a *fact.Account, now time.Time) {
	var pam [][]byte
	for _, path := range usingFaillock {
		if text, err := file.Head(path, common.MostSettings); err == nil {
			pam = append(pam, text)
		}
	}
	own, err := file.Head("/etc/security/faillock.conf", common.MostSettings)
	if err != nil {
		own = nil // then the defaults hold
	}
	set, used := faillockOf(own, pam...)
	if !used {
		return
	}
	a.Deny = set.deny
	tally, err := file.Head(filepath.Join(set.folder, a.Name), common.MostSettings)
	if err != nil {
		if !errors.Is(err, fs.ErrNotExist) {
			a.Unread = append(a.Unread, "the count of failures: "+err.Error())
		}
		return
	}
	for ; len(tally) >= tallySize; tally = tally[tallySize:] {
		const status, at = 54, 56
		when := time.Unix(int64(binary.LittleEndian.Uint64(tally[at:])), 0)
		if binary.LittleEndian.Uint16(tally[status:])&tallyValid != 0 && now.Sub(when) < set.interval {
			a.Failures++
		}
	}
}

// readKeys reads which keys may log in, and whether the server takes the
// file: with strict modes, neither it nor a folder above it up to the home may
// be written by others (sshd(8), AUTHORIZED_KEYS).
func readKeys(a *fact.Account, pid int) {
	strict := true
	a.KeysFile, strict, a.KeysElse = keysFile(a, pid)
	text, err := ownAccount(a).Head(a.KeysFile, common.MostSettings)
	switch {
	case errors.Is(err, fs.ErrNotExist):
		a.KeysWrong = "there is no " + a.KeysFile
		return
	case err != nil:
		a.Unread = append(a.Unread, err.Error())
		return
	}
	const most = 200
	for len(a.Keys) < most {
		key, _, _, rest, err := ssh.ParseAuthorizedKey(text)
		if err != nil {
			break
		}
		a.Keys = append(a.Keys, ssh.FingerprintSHA256(key))
		text = rest
	}
	for level := a.KeysFile; strict; level = filepath.Dir(level) {
		if info, err := os.Stat(level); err == nil {
			st, ok := info.Sys().(*syscall.Stat_t)
			uid := ""
			if ok {
				uid = strconv.FormatUint(uint64(st.Uid), 10)
			}
			switch {
			case info.Mode().Perm()&0o022 != 0:
				a.KeysWrong = fmt.Sprintf(
					"%s may be written by others than its owner (mode %04o)",
					level,
					info.Mode().Perm(),
				)
				return
			case ok && uid != "0" && uid != a.UID:
				a.KeysWrong = fmt.Sprintf("%s belongs to %s", level, userName(st.Uid))
				return
			}
		}
		if level == a.Home || level == "/" || level == "." {
			return
		}
	}
}

// ownAccount is the account itself, which what lies in its home is read for.
func ownAccount(a *fact.Account) file.Account {
	uid, err := strconv.ParseUint(a.UID, 10, 32)
	if err != nil {
		return file.Account{UID: ^uint32(0)}
	}
	return file.Named(uint32(uid))
}

// keysFile is where sshd looks for an account's keys, whether it minds who may
// write there, and where else keys may come from, by its settings
// (sshd_config(5)). Of each directive the first counts.
func keysFile(a *fact.Account, pid int) (file string, strict bool, other string) {
	return keysIn(a, onHost.SettingsOf(programfiles.Shipped(program.SSHD), pid))
}

func keysIn(a *fact.Account, settings []programfiles.Source) (file string, strict bool, other string) {
	set := map[string]string{}
	for _, from := range settings {
		if from.Err != nil {
			other = "settings of sshd that could not be read"
			continue
		}
		for line := range strings.Lines(string(from.Text)) {
			words := strings.Fields(line)
			if len(words) < 2 {
				continue
			}
			key := strings.ToLower(words[0])
			if key == "match" {
				other = "settings of sshd that hold for some only"
				break
			}
			if _, known := set[key]; !known {
				set[key] = words[1]
			}
		}
	}
	pattern := set["authorizedkeysfile"]
	if pattern == "" || pattern == "none" {
		pattern = ".ssh/authorized_keys"
	}
	for _, key := range []string{"authorizedkeyscommand", "trustedusercakeys"} {
		if set[key] != "" && set[key] != "none" {
			other = set[key]
		}
	}
	pattern = strings.NewReplacer("%h", a.Home, "%u", a.Name, "%%", "%").Replace(pattern)
	if !filepath.IsAbs(pattern) {
		pattern = filepath.Join(a.Home, pattern)
	}
	return pattern, !strings.EqualFold(set["strictmodes"], "no"), other
}

// PathRights leaves whether a user gets to a file.
func PathRights(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	p := fact.PathRight{User: order.Target.Account, Path: order.Target.Path}
	p.Level, p.Why, p.Mode, p.Grant = stoppedOn(p.User, p.Path)
	saw := p.User + " gets there"
	if p.Why != "" {
		saw = p.Why
	}
	f := env.Seen(order, "rights on "+p.Path, saw)
	f.PathRight = &p
	emit(f)
}
