package program

// Programs that a look or a judgement knows more of than its file in known can say: how
// it keeps accounts, or how its lists decide.
const (
	Nginx      = "nginx"
	HAProxy    = "haproxy"
	Apache     = "apache2"
	SSHD       = "sshd"
	PostgreSQL = "postgres"
	MariaDB    = "mariadbd"
	MySQL      = "mysqld"
	Redis      = "redis-server"
	Slapd      = "slapd"
	Postfix    = "master"
)
