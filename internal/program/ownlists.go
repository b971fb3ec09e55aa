package program

import (
	"regexp"
	"sync"

	"uakari/internal/fact"
)

// OwnList is the files in which programs keep a list of a shape of their own.
type OwnList struct {
	Kind     string         // of fact.AccessFile
	Programs []string       // empty: whatever listens
	Globs    []string       // where they are where no program was told otherwise
	Keep     *regexp.Regexp // the lines that bear on addresses; nil: all
}

// OwnLists are the lists that code of this package decides by. They are made when they
// are first used.
var OwnLists = sync.OnceValue(func() []OwnList {
	return []OwnList{
		{fact.ListWrapperAllow, nil, []string{"/etc/hosts.allow"}, nil},
		{fact.ListWrapperDeny, nil, []string{"/etc/hosts.deny"}, nil},
		{
			fact.ListHBA,
			[]string{PostgreSQL},
			[]string{
				"/etc/postgresql/*/*/pg_hba.conf",
				"/var/lib/pgsql/data/pg_hba.conf",
				"/var/lib/pgsql/*/data/pg_hba.conf",
			},
			regexp.MustCompile(`^\s*(local|host\w*|include\w*)\s`),
		},
		{
			fact.ListNginx,
			[]string{Nginx},
			[]string{"/etc/nginx/nginx.conf", "/etc/nginx/conf.d/*.conf", "/etc/nginx/sites-enabled/*"},
			regexp.MustCompile(
				`[{}]|^\s*(allow|deny|listen|server_name|include|satisfy|set_real_ip_from|real_ip_header)\b`,
			),
		},
		{
			fact.ListHAProxy,
			[]string{HAProxy},
			[]string{"/etc/haproxy/haproxy.cfg", "/etc/haproxy/conf.d/*.cfg"},
			regexp.MustCompile(haproxyKeeps),
		},
		{
			fact.ListSSH,
			[]string{SSHD},
			[]string{"/etc/ssh/sshd_config", "/etc/ssh/sshd_config.d/*.conf"},
			regexp.MustCompile(
				`(?i)^\s*(match|allowusers|denyusers|allowgroups|denygroups|permitrootlogin|usedns|include|` +
					`authenticationmethods|(?:password|kbdinteractive|challengeresponse|pubkey)authentication)\b`,
			),
		},
		{
			fact.ListRedis,
			[]string{Redis},
			[]string{"/etc/redis/redis.conf", "/etc/redis.conf"},
			regexp.MustCompile(`(?i)^\s*(protected-mode|requirepass|aclfile|user|include)\b`),
		},
		{
			fact.ListPostfix,
			[]string{Postfix},
			[]string{"/etc/postfix/main.cf"},
			regexp.MustCompile(`^(mynetworks|smtpd_client_restrictions|smtpd_delay_reject)\s*=`),
		},
	}
})
