package vantage

import (
	"crypto/ed25519"
	"crypto/rand"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"

	"golang.org/x/crypto/ssh"

	"uakari/internal/look/file"
	"uakari/internal/owned"
)

// What a host says over a broker is signed with a key of its own, each line with the
// number of the order that it answers and its place in the answer: whoever else is
// on the broker can neither say something in its name nor repeat what it said.

// answerFormat names the format of signed answers.
const answerFormat = "uakari.answer/1"

// sealedLine is a line with its signature.
type sealedLine struct {
	Line      []byte `json:"line"`
	Signature []byte `json:"signature"`
}

// toSeal is what is signed of a line.
func toSeal(number string, at uint32, line []byte) []byte {
	return fmt.Appendf(nil, "%s\n%s\n%d\n%s", answerFormat, number, at, line)
}

// sealed is a line of an answer as it is sent.
func sealed(key ssh.Signer, number string, at uint32, line []byte) ([]byte, error) {
	if key == nil {
		return line, nil
	}
	signature, err := key.Sign(rand.Reader, toSeal(number, at, line))
	if err != nil {
		return nil, err
	}
	return json.Marshal(sealedLine{line, ssh.Marshal(signature)})
}

var (
	errUnsealed = errors.New("its answer is not signed; expected one by a key of --answers-from")
	errSeal     = errors.New("its answer is signed by another key than those of --answers-from, or is not of this order")
)

// unsealed is the line of a message. With keys, one of them must have signed it; without,
// what is signed is taken as what is not.
func unsealed(keys []ssh.PublicKey, number string, at uint32, message []byte) ([]byte, error) {
	var s sealedLine
	if err := json.Unmarshal(message, &s); err != nil || s.Line == nil {
		if len(keys) > 0 {
			return nil, errUnsealed
		}
		return message, nil
	}
	if len(keys) == 0 {
		return s.Line, nil
	}
	var signature ssh.Signature
	if err := ssh.Unmarshal(s.Signature, &signature); err != nil {
		return nil, errUnsealed
	}
	for _, key := range keys {
		if key.Verify(toSeal(number, at, s.Line), &signature) == nil {
			return s.Line, nil
		}
	}
	return nil, errSeal
}

// AnswerKey is the key that a host signs its answers with: of a folder, where it is
// made at the first time.
func AnswerKey(folder string) (ssh.Signer, error) {
	path := filepath.Join(folder, "attend.key")
	text, err := file.Read(path, file.MostSettings)
	if errors.Is(err, fs.ErrNotExist) {
		_, private, err := ed25519.GenerateKey(rand.Reader)
		if err != nil {
			return nil, err
		}
		block, err := ssh.MarshalPrivateKey(private, "answers of uakari attend")
		if err != nil {
			return nil, err
		}
		if err := owned.Folder(folder); err != nil {
			return nil, err
		}
		if _, err := owned.Write(path, pem.EncodeToMemory(block)); err != nil {
			return nil, err
		}
		return ssh.NewSignerFromKey(private)
	}
	if err != nil {
		return nil, err
	}
	if info, err := os.Stat(path); err == nil && info.Mode().Perm()&0o077 != 0 && filepath.Separator == '/' {
		return nil, fmt.Errorf("%s may be read by others (mode %04o); expected 0600", path, info.Mode().Perm())
	}
	return OrderKey(path, text)
}
