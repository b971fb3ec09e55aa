package protocol

import "uakari/internal/fact"

// kafka is the protocol of Kafka, of which its first question alone.
var kafka = Protocol{
	Name: "kafka",
	Schemes: []Scheme{
		{Name: "kafka", Port: 9092, Security: fact.Plain, First: ClientFirst},
	},
	Without: map[string]string{
		"Codes":  noLogin,
		"Log":    noLogin,
		"Stored": nothingKept,
		"Door":   noDoor,
		"Alive":  askedOnce,
	},
}
