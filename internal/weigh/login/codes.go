package login

import (
	"uakari/internal/protocol"
	"uakari/internal/weigh/gate"
)

// strengths is how strong a reading is by how sure the protocol's word is.
var strengths = map[protocol.Sure]gate.Strength{
	protocol.Coded: gate.Coded, protocol.Told: gate.Told, protocol.Hinted: gate.Hinted, protocol.Vague: gate.Vague,
}

// wordsMean is what words of servers mean that few remember.
var wordsMean = []struct{ part, meaning string }{
	{
		"Peer authentication failed",
		"its list lets an account in over the local socket only for the system's user of the same name (peer), " +
			"whatever secret is sent",
	},
	{"Ident authentication failed", "its list asks the client's host who the user is (ident), and takes no secret"},
	{
		"requires a valid client certificate",
		"its list lets this account in by a certificate (clientcert, or the method cert)",
	},
	{
		"certificate authentication failed",
		"the name in the certificate must be the account's, or one that a map of the server gives it (the method " +
			"cert)",
	},
}

// plainWords is lines that servers write of any account that does not get in,
// whatever is wrong with it.
var plainWords = map[string]bool{"Failed password for": true, "Failed publickey for": true, "Password mismatch?": true}
