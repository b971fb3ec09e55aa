//go:build linux

package linux

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"uakari/internal/fact"
	"uakari/internal/look/host/common"
	"uakari/internal/wire"
)

// rolesQuestion asks for roles, without their secrets: only how those are kept.
const rolesQuestion = `SELECT r.rolname, r.rolcanlogin, r.rolsuper,
 CASE WHEN isfinite(r.rolvaliduntil) THEN extract(epoch FROM r.rolvaliduntil)::bigint END,
 r.rolconnlimit, (SELECT count(*) FROM pg_stat_activity a WHERE a.usesysid = r.oid),
 CASE WHEN r.rolpassword IS NULL THEN 'none' WHEN r.rolpassword LIKE 'SCRAM-SHA-256$%' THEN 'scram-sha-256' WHEN
 r.rolpassword LIKE 'md5%' THEN 'md5' END,
 array_to_string(ARRAY(SELECT g.rolname FROM pg_roles g WHERE NOT r.rolsuper AND g.oid <> r.oid AND pg_has_role(r.oid,
 g.oid, 'MEMBER')), chr(10)),
 array_to_string(ARRAY(SELECT d.datname FROM pg_database d WHERE d.datallowconn AND NOT has_database_privilege(r.oid,
 d.oid, 'CONNECT')), chr(10))
 FROM pg_authid r WHERE `

const databasesQuestion = `SELECT d.datname, d.datallowconn, d.datconnlimit, (SELECT count(*) FROM pg_stat_activity ` +
	`a WHERE a.datid = d.oid) FROM pg_database d ORDER BY 1`

// postgresRoles asks PostgreSQL as the user that it runs as, who is its
// administrator unless its list says otherwise. Where its socket is, the file
// says that it leaves in its data folder while it runs (postmaster.pid).
func postgresRoles(ctx context.Context, pid int, t fact.Target) (fact.Accounts, error) {
	var a fact.Accounts
	account := t.Account
	uid, err := ownerOf(pid)
	if err != nil {
		return a, err
	}
	if os.Geteuid() != 0 && os.Geteuid() != uid {
		return a, os.ErrPermission
	}
	text, err := common.ReadSome(procFile(pid, "cwd/postmaster.pid"))
	if err != nil {
		return a, err
	}
	lines := strings.Split(string(text), "\n")
	if len(lines) < 5 || lines[4] == "" {
		return a, errors.New("it has no local socket")
	}
	user, path := userName(uint32(uid)), filepath.Join(lines[4], ".s.PGSQL."+strings.TrimSpace(lines[3]))
	conn, err := dialAs(ctx, uid, path, pid)
	if err != nil {
		return a, err
	}
	defer conn.Close()
	session, err := wire.OpenPostgres(conn, user)
	if err != nil {
		return a, err
	}
	a.Place = fmt.Sprintf("asked as its administrator, %s, over %s", user, path)
	which := "r.rolname !~ '^pg_' ORDER BY 1"
	if account != "" {
		which = "r.rolname = '" + strings.ReplaceAll(account, "'", "''") + "'"
	}
	rows, err := session.Ask(rolesQuestion+which+fmt.Sprintf(" LIMIT %d", mostAccounts+1), mostAccounts+1)
	if err != nil {
		return a, err
	}
	if len(rows) > mostAccounts {
		return a, fmt.Errorf("more than %d accounts; name one with --user", mostAccounts)
	}
	for _, row := range rows {
		if len(row) != 9 {
			return a, errors.New("an answer of another shape")
		}
		s := fact.ServiceAccount{
			Name:     row[0],
			NoLogin:  row[1] != "t",
			Admin:    row[2] == "t",
			Limit:    limitOf(row[4]),
			Sessions: count(row[5]),
			Secret:   row[6],
			Groups:   listed(row[7]),
			Barred:   listed(row[8]),
		}
		if ends, err := strconv.ParseInt(row[3], 10, 64); err == nil {
			s.SecretEnds = time.Unix(ends, 0).UTC()
		}
		a.List = append(a.List, s)
	}
	databases, err := session.Ask(databasesQuestion, mostAccounts)
	if err != nil {
		return a, err
	}
	for _, row := range databases {
		if len(row) == 4 {
			a.Databases = append(
				a.Databases,
				fact.Database{Name: row[0], Closed: row[1] != "t", Limit: limitOf(row[2]), Sessions: count(row[3])},
			)
		}
	}
	return a, nil
}

// limitOf is a limit of PostgreSQL, whose -1 is none.
func limitOf(text string) int { return max(0, count(text)) }

// count is a number of an answer; 0 where there is none.
func count(text string) int {
	n, err := strconv.Atoi(text)
	if err != nil {
		return 0
	}
	return n
}

func listed(text string) []string {
	if text == "" {
		return nil
	}
	return strings.Split(text, "\n")
}
