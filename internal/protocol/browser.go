package protocol

import "uakari/internal/fact"

// browser is what tells the ports of named instances of SQL servers (MC-SQLR).
var browser = Protocol{
	Name: "mssql-browser",
	Schemes: []Scheme{
		{Name: "mssql-browser", Port: 1434, UDP: true, Open: true, Security: fact.Plain, First: ClientFirst},
	},
	Maps:    true,
	Without: map[string]string{"Door": noDoor, "Alive": askedOnce},
}
