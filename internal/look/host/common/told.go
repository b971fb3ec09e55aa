package common

import (
	"context"
	"fmt"
	"os"
	"strconv"
	"strings"

	"uakari/internal/fact"
	"uakari/internal/look"
	"uakari/internal/look/sshclient"
	"uakari/internal/protocol"
)

// Told leaves where the settings of this user's own programs send a connection
// to the endpoint: of the SSH client, and of PostgreSQL's library.
func Told(_ context.Context, env look.Env, order fact.Order, emit look.Emit) {
	t := order.Target
	var told fact.Told
	switch protocol.Spoken(t.Scheme).List {
	case fact.ListSSH:
		told = sshTold(t)
	case fact.ListHBA:
		told = postgresTold(t)
	}
	saw := "nothing else"
	if told.Host != "" || told.Port != 0 || told.Jump != "" {
		saw = strings.TrimSpace(fmt.Sprintf("%s %s", told.Host, told.Jump))
		if told.Port != 0 {
			saw = strings.TrimSpace(fmt.Sprintf("%s port %d", saw, told.Port))
		}
	}
	f := env.Seen(order, "settings of this user's own programs", saw)
	f.Told = &told
	emit(f)
}

func sshTold(t fact.Target) fact.Told {
	s := sshclient.For(t.Name)
	told := fact.Told{By: string(fact.SSH)}
	if host := strings.ReplaceAll(s.First("hostname"), "%h", t.Name); host != "" && !strings.EqualFold(host, t.Name) &&
		host != t.Addr.String() {
		told.Host, told.HostAt = host, s.Place("hostname")
	}
	if port, err := strconv.ParseUint(s.First("port"), 10, 16); err == nil && uint16(port) != t.Port {
		told.Port, told.PortAt = uint16(port), s.Place("port")
	}
	if jump := s.First("proxyjump"); jump != "" && jump != "none" {
		first, _, _ := strings.Cut(jump, ",")
		told.Jump, told.JumpAt = first[strings.LastIndexByte(first, '@')+1:], s.Place("proxyjump")
	}
	return told
}

// postgresTold reads the environment and the service that it names ("Environment
// Variables", "The Connection Service File"). They hold for programs that are
// not told otherwise.
func postgresTold(t fact.Target) fact.Told {
	told := fact.Told{By: "programs of PostgreSQL", Only: true}
	set := func(host, port, hostAt, portAt string) {
		if host != "" && host[0] != '/' && !strings.EqualFold(host, t.Name) && host != t.Addr.String() {
			told.Host, told.HostAt = host, hostAt
		}
		if n, err := strconv.ParseUint(port, 10, 16); err == nil && uint16(n) != t.Port {
			told.Port, told.PortAt = uint16(n), portAt
		}
	}
	if os.Getenv("PGSERVICE") != "" {
		values, places := postgresService()
		set(values["host"], values["port"], places["host"], places["port"])
		return told
	}
	set(os.Getenv("PGHOST"), os.Getenv("PGPORT"), "the environment, PGHOST", "the environment, PGPORT")
	return told
}

// postgresService is what the service file says of the service that the
// environment names, and where each value stands.
func postgresService() (values, places map[string]string) {
	values, places = map[string]string{}, map[string]string{}
	service := os.Getenv("PGSERVICE")
	if service == "" {
		return values, places
	}
	path, text := inHome("PGSERVICEFILE", ".pg_service.conf")
	ours, number := false, 0
	for line := range strings.Lines(string(text)) {
		number++
		line = strings.TrimSpace(line)
		if strings.HasPrefix(line, "[") {
			ours = line == "["+service+"]"
		} else if key, value, ok := strings.Cut(line, "="); ok && ours {
			values[key], places[key] = value, fmt.Sprintf("%s:%d", path, number)
		}
	}
	return values, places
}
