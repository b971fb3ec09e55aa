//go:build linux

package linux

import (
	"context"
	"fmt"
	"net"
	"os"
	"regexp"
	"time"

	"golang.org/x/sys/unix"

	"uakari/internal/fact"
	"uakari/internal/foreign"
	"uakari/internal/look/host/common"
	"uakari/internal/look/host/programfiles"
	"uakari/internal/program"
	"uakari/internal/wire"
)

// mysqlSockets is where MariaDB and MySQL take connections of their own host.
var mysqlSockets = []string{"/run/mysqld/mysqld.sock", "/var/lib/mysql/mysql.sock", "/tmp/mysql.sock"}

// questions is how each is asked. MariaDB keeps roles among the accounts:
// nobody comes as one of them.
var questions = map[string]string{
	program.MariaDB: "SELECT User, Host FROM mysql.user WHERE is_role = 'N'",
	program.MySQL:   "SELECT User, Host FROM mysql.user",
}

// rightsQuestions is how each is asked what accounts may, beside databases, which all of
// them tell alike; of MariaDB the states of accounts are in a document of their own.
var rightsQuestions = map[string][]string{
	program.MariaDB: {
		"SELECT 'locked', CONCAT(User, '@', Host) FROM mysql.global_priv WHERE JSON_VALUE(Priv, '$.account_locked') IN " +
			"('1', 'true')",
		"SELECT 'roles', CONCAT(User, '@', Host) FROM mysql.roles_mapping WHERE Host <> ''",
		granted,
	},
	program.MySQL: {
		"SELECT 'locked', CONCAT(User, '@', Host) FROM mysql.user WHERE account_locked = 'Y'",
		"SELECT 'roles', CONCAT(TO_USER, '@', TO_HOST) FROM mysql.role_edges",
		"SELECT 'roles', '*' FROM DUAL WHERE @@mandatory_roles <> ''",
		granted,
	},
}

// granted is any right on a database, or on something in it.
const granted = "SELECT DISTINCT CONCAT('grant ', User, '@', Host), Db FROM (SELECT User, Host, Db FROM mysql.db UNION " +
	"SELECT User, Host, REPLACE(Db, '_', '\\\\_') FROM mysql.tables_priv UNION SELECT User, Host, REPLACE(Db, '_', " +
	"'\\\\_') FROM mysql.procs_priv UNION SELECT User, Host, '*' FROM mysql.user WHERE 'Y' IN (Select_priv, " +
	"Insert_priv, Update_priv, Delete_priv, Create_priv, Drop_priv, Alter_priv, Execute_priv)) AS any_right"

const databasesOfAll = "SELECT 'database', SCHEMA_NAME FROM information_schema.SCHEMATA"

// mysqlRights asks over a socket that answered what the accounts may.
func mysqlRights(ctx context.Context, name, path string, pid int) (fact.AccessFile, error) {
	f := fact.AccessFile{Kind: fact.ListMySQLRights, Changed: time.Now().UTC(), Lines: []fact.Line{},
		Path: "what the accounts of the database may, asked as its administrator over " + path}
	for _, question := range append([]string{databasesOfAll}, rightsQuestions[name]...) {
		rows, err := askLocal(ctx, path, question, pid)
		if err == nil && len(rows) > mostAccounts {
			err = fmt.Errorf("more than %d lines", mostAccounts)
		}
		if err != nil {
			return f, err
		}
		for _, row := range rows {
			if len(row) == 2 {
				f.Lines = append(f.Lines, fact.Line{Number: len(f.Lines) + 1,
					Text: foreign.Clean(row[0]) + " " + foreign.Clean(row[1])})
			}
		}
	}
	return f, nil
}

// Bounds on asking a database for its accounts.
const (
	askTime      = 2 * time.Second
	mostAccounts = 1000
)

// mysqlAccounts asks a running database, as its own administrator over its
// local socket, which accounts may come from where. Only root is taken for the
// administrator, and only the process that holds the port is asked.
func mysqlAccounts(ctx context.Context, name, question string, pid int) (f fact.AccessFile, socket string, err error) {
	f = fact.AccessFile{Kind: fact.ListMySQL, Changed: time.Now().UTC(), Lines: []fact.Line{}}
	if os.Geteuid() != 0 {
		return f, "", os.ErrPermission
	}
	var last error
	paths := argumentsWith(pid, "--socket=")
	for _, settings := range onHost.Named(programfiles.Shipped(name), pid) {
		text, err := common.ReadSome(settings)
		if err != nil {
			continue // whoever reads its settings says so
		}
		for _, m := range regexp.MustCompile(`(?m)^\s*socket\s*=\s*(/\S+)`).FindAllSubmatch(text, -1) {
			paths = append(paths, string(m[1]))
		}
	}
	for _, path := range append(paths, mysqlSockets...) {
		rows, err := askLocal(ctx, path, question, pid)
		if err == nil && len(rows) > mostAccounts {
			err = fmt.Errorf("more than %d accounts", mostAccounts)
		}
		if err != nil {
			last = fmt.Errorf("%s: %w", path, err)
			continue
		}
		f.Path = "the accounts of the database, asked as its administrator over " + path
		for i, row := range rows {
			if len(row) == 2 {
				f.Lines = append(
					f.Lines,
					fact.Line{Number: i + 1, Text: foreign.Clean(row[0]) + "@" + foreign.Clean(row[1])},
				)
			}
		}
		return f, path, nil
	}
	return f, "", last
}

func askLocal(ctx context.Context, path, question string, pid int) ([][]string, error) {
	ctx, cancel := context.WithTimeout(ctx, askTime)
	defer cancel()
	conn, err := dialAs(ctx, 0, path, pid)
	if err != nil {
		return nil, err
	}
	defer conn.Close()
	return wire.AskMySQL(conn, "root", question, mostAccounts+1)
}

// peerOf is the process at the other end of a local socket (unix(7),
// SO_PEERCRED).
func peerOf(conn *net.UnixConn) (int, error) {
	raw, err := conn.SyscallConn()
	if err != nil {
		return 0, err
	}
	var cred *unix.Ucred
	var failed error
	if err := raw.Control(func(fd uintptr) {
		cred, failed = unix.GetsockoptUcred(int(fd), unix.SOL_SOCKET,
			unix.SO_PEERCRED)
	}); err != nil {
		return 0, err
	}
	if failed != nil {
		return 0, failed
	}
	return int(cred.Pid), nil
}
