package wire

import (
	"crypto/hmac"
	"crypto/pbkdf2"
	"crypto/rand"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"hash"
	"io"
	"strconv"
	"strings"
)

// scram is one exchange of SCRAM without channel binding (RFC 5802, RFC 7677).
type scram struct {
	nonce, bare string
	hash        func() hash.Hash // nil: SHA-256
}

// first begins it, for an account; "" where the protocol says who it is.
func (s *scram) first(account string) string {
	s.nonce = rand.Text()
	s.bare = "n=" + strings.NewReplacer("=", "=3D", ",", "=2C").Replace(account) + ",r=" + s.nonce
	return "n,," + s.bare
}

var errScram = errors.New("the server's part of SCRAM makes no sense")

func (s *scram) last(challenge, secret string) (string, error) {
	fields := map[byte]string{}
	for part := range strings.SplitSeq(challenge, ",") {
		if len(part) > 2 && part[1] == '=' {
			fields[part[0]] = part[2:]
		}
	}
	salt, err := base64.StdEncoding.DecodeString(fields['s'])
	rounds, err2 := strconv.Atoi(fields['i'])
	const most = 1 << 18 // a hostile server may name any number
	if err != nil || err2 != nil || rounds < 1 || rounds > most || !strings.HasPrefix(fields['r'], s.nonce) {
		return "", errScram
	}
	digest := s.hash
	if digest == nil {
		digest = sha256.New
	}
	salted, err := pbkdf2.Key(digest, secret, salt, rounds, digest().Size())
	if err != nil {
		return "", err
	}
	mac := func(key []byte, text string) []byte {
		h := hmac.New(digest, key)
		io.WriteString(h, text)
		return h.Sum(nil)
	}
	client := mac(salted, "Client Key")
	stored := digest()
	stored.Write(client)
	final := "c=biws,r=" + fields['r']
	proof := mac(stored.Sum(nil), s.bare+","+challenge+","+final)
	for i := range proof {
		proof[i] ^= client[i]
	}
	return final + ",p=" + base64.StdEncoding.EncodeToString(proof), nil
}
