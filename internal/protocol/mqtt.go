package protocol

import "uakari/internal/fact"

// mqtt is MQTT 3.1.1.
var mqtt = Protocol{
	Name: "mqtt",
	Schemes: []Scheme{
		{Name: "mqtt", Port: 1883, Security: fact.Plain, First: ClientFirst},
		{Name: "mqtts", Port: 8883, Security: fact.TLS, First: ClientFirst, Verify: true},
	},
}
