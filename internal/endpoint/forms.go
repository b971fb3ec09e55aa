package endpoint

import (
	"fmt"
	"net/url"
	"regexp"
	"strings"
	"sync"
)

// Forms in which other programs write where they connect: names of shares, of database
// servers, strings of ODBC, ADO and JDBC, and the keys of libpq. Each becomes a URL.

// share is a share of a file server: \\server\share\folder.
var share = sync.OnceValue(func() *regexp.Regexp { return regexp.MustCompile(`^(?:\\\\|//)([^\\/]+)[\\/](.*)$`) })

// withComma is a database server with its port as SQL Server's clients write it:
// "server,1433", "tcp:server,1433".
var withComma = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(?i:tcp:)?([^\s,;=:/\\]+)\s*,\s*(\d{1,5})$`)
})

// withInstance is a database server with the name of an instance: "server\instance".
var withInstance = sync.OnceValue(func() *regexp.Regexp {
	return regexp.MustCompile(`^(?i:tcp:)?([^\s,;=:/\\]+)\\([^\s,;=/\\]+)$`)
})

// Schemes of the forms.
const (
	ofShares    = "smb"
	ofServer    = "mssql"
	ofInstances = "mssql-browser"
)

// fromForm reads an endpoint in a form of another program; false where it is in none.
func fromForm(text string) (asURL string, ok bool, err error) {
	if m := share().FindStringSubmatch(text); m != nil {
		return ofShares + "://" + m[1] + "/" + strings.ReplaceAll(m[2], `\`, "/"), true, nil
	}
	if strings.HasPrefix(strings.ToLower(text), "jdbc:") {
		asURL, err = fromJDBC(text[len("jdbc:"):])
		return asURL, true, err
	}
	if m := withComma().FindStringSubmatch(text); m != nil {
		return ofServer + "://" + m[1] + ":" + m[2], true, nil
	}
	if m := withInstance().FindStringSubmatch(text); m != nil {
		return "", true, needsPort(text, m[1], m[2])
	}
	if at := strings.IndexByte(text, '='); at > 0 && !strings.ContainsAny(text[:at], ":/?[@") {
		asURL, err = fromPairs(text)
		return asURL, true, err
	}
	return "", false, nil
}

// needsPort is the error of an instance by its name, whose port its host names.
func needsPort(text, host, instance string) error {
	return &Error{text, 0, "an instance, " + quote(instance), fmt.Sprintf(
		"its port, as in %s,1433; uakari trace %s://%s/%s tells which that is", host, ofInstances, host, instance)}
}

// fromJDBC reads what stands behind "jdbc:" ("jdbc:postgresql://ledger:5432/tides",
// "jdbc:sqlserver://ledger:1433;databaseName=tides").
func fromJDBC(text string) (string, error) {
	scheme, rest, ok := strings.Cut(text, "://")
	if !ok {
		return "", &Error{"jdbc:" + text, 0, "a JDBC URL without a host", "jdbc:KIND://HOST:PORT/DATABASE"}
	}
	server, properties, has := strings.Cut(rest, ";")
	if !has {
		return scheme + "://" + rest, nil
	}
	if host, instance, ok := strings.Cut(server, `\`); ok {
		return "", needsPort("jdbc:"+text, host, instance)
	}
	values, err := pairs("jdbc:"+text, properties, ";")
	if err != nil {
		return "", err
	}
	return scheme + "://" + server + "/" + url.PathEscape(first(values, "databasename", "database")), nil
}

// Keys of connection strings, in small letters without blanks, by what they stand for.
var (
	ofHost = []string{"server", "datasource", "address", "addr", "networkaddress", "host", "hostaddr",
		"servername"}
	ofDatabase = []string{"database", "initialcatalog", "dbname", "db"}
	ofSecret   = []string{"password", "pwd", "passwd"}
)

// fromPairs reads a string of keys and values: of ODBC and ADO, with semicolons between
// them, or of libpq, with blanks.
func fromPairs(text string) (string, error) {
	between := ";"
	if !strings.Contains(text, ";") && strings.Count(text, "=") > 1 {
		between = " "
	}
	values, err := pairs(text, text, between)
	if err != nil {
		return "", err
	}
	host, port := first(values, ofHost...), values["port"]
	switch {
	case host == "" && values["dsn"] != "":
		return "", &Error{text, 0, "a data source by its name, " + quote(values["dsn"]),
			"the server and port that it stands for, as in Server=HOST,PORT"}
	case host == "":
		return "", &Error{text, 0, "a connection string without a server", "Server=HOST,PORT, or a URL"}
	}
	driver := strings.ToLower(values["driver"] + values["provider"])
	scheme := ofServer
	switch {
	case strings.Contains(driver, "postgre") || between == " " || driver == "" && values["host"] != "":
		scheme = "postgres"
	case strings.Contains(driver, "mysql") || strings.Contains(driver, "maria"):
		scheme = "mysql"
	}
	if m := withInstance().FindStringSubmatch(host); m != nil {
		return "", needsPort(text, m[1], m[2])
	}
	if m := withComma().FindStringSubmatch(host); m != nil {
		host, port = m[1], m[2]
	}
	host = strings.TrimPrefix(host, "tcp:")
	if strings.Contains(host, ":") && !strings.HasPrefix(host, "[") && strings.Count(host, ":") > 1 {
		host = "[" + host + "]"
	}
	if port != "" {
		host += ":" + port
	}
	return scheme + "://" + host + "/" + url.PathEscape(first(values, ofDatabase...)), nil
}

// pairs is the values of a string by their keys, in small letters and without blanks. One
// that holds a secret is refused, and not repeated.
func pairs(input, text, between string) (map[string]string, error) {
	values := map[string]string{}
	for part := range strings.SplitSeq(text, between) {
		key, value, ok := strings.Cut(part, "=")
		key = strings.ReplaceAll(strings.ToLower(strings.TrimSpace(key)), " ", "")
		if !ok || key == "" {
			continue
		}
		if first(map[string]string{key: "x"}, ofSecret...) != "" {
			before, _, _ := strings.Cut(input, between)
			return nil, &Error{before + between + "…", 0, "a secret in the address", "no secret on the command line"}
		}
		values[key] = strings.Trim(strings.TrimSpace(value), `"'{}`)
	}
	return values, nil
}

// first is the value of the first key that has one.
func first(values map[string]string, keys ...string) string {
	for _, key := range keys {
		if values[key] != "" {
			return values[key]
		}
	}
	return ""
}
