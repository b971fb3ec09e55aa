package protocol

import "uakari/internal/fact"

// redis is the protocol of Redis and its kin (RESP); refusals begin with a word (its manual, "ACL").
var redis = Protocol{
	Name: "redis",
	Schemes: []Scheme{
		{Name: "redis", Nameless: "default", Port: 6379, Security: fact.Plain, First: ClientFirst},
		{Name: "rediss", Nameless: "default", Port: 6380, Security: fact.TLS, First: ClientFirst, Verify: true},
	},
	Accounts:  true,
	List:      fact.ListRedis,
	Ungrouped: true,
	Stored:    []string{"REDISCLI_AUTH"},
	Alive:     "*1\r\n$4\r\n" + "PING\r\n",
	Codes: []Code{
		{"WRONGPASS", "", "login/rejected", Vague},
		{"NOPERM", "", "login/no-right", Coded},
		{"ERR", "without any password configured", "login/mechanism-off", Coded},
		{"ERR", "", "login/rejected", Vague},
	},
	Door: []Door{
		{"DENIED", "", "answer/source-refused", "it refuses this client's address"},
		{"ERR", "max number of clients", "login/too-many-sessions", "it has no session left"},
		{"LOADING", "", "answer/not-ready", "it is still reading its data"},
		{"MASTERDOWN", "", "answer/not-ready", "it cannot copy its data from where it should"},
		{"CLUSTERDOWN", "", "answer/not-ready", "a part of its cluster is gone"},
	},
	Without: map[string]string{"Log": inPrograms},
}
