package protocol

import "uakari/internal/fact"

// vnc is the remote framebuffer protocol (RFC 6143).
var vnc = Protocol{
	Name: "vnc",
	Schemes: []Scheme{
		{Name: "vnc", Port: 5900, Also: []uint16{5901}, Security: fact.Plain, First: ServerFirst,
			Nameless: "the screen"},
	},
	Codes: []Code{
		{"mechanism", "", "login/mechanism-off", Coded},
		{"refused", "oo many", "login/host-blocked", Coded},
		{"2", "", "login/host-blocked", Told}, // too many attempts
		{"1", "oo many", "login/host-blocked", Coded},
		{"", "", "login/rejected", Vague},
	},
	Without: map[string]string{"Log": inPrograms, "Stored": nothingKept, "Door": noDoor, "Alive": askedOnce},
}
