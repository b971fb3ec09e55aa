package protocol

import "uakari/internal/fact"

// mqtt is MQTT 3.1.1.
var mqtt = Protocol{
	Name: "mqtt",
	Schemes: []Scheme{
		{Name: "mqtt", Port: 1883, Security: fact.Plain, First: ClientFirst},
		{Name: "mqtts", Port: 8883, Security: fact.TLS, First: ClientFirst, Verify: true},
	},
	Codes: []Code{
		{"2", "", "login/policy-blocks", Told}, // its list of identifiers
		{"3", "", "answer/not-ready", Told},
		{"4", "", "login/rejected", Vague},
		{"5", "", "login/rejected", Vague}, // servers say it of wrong secrets, too
	},
	Without: map[string]string{"Log": inPrograms, "Stored": nothingKept, "Door": noDoor, "Alive": askedOnce},
}
