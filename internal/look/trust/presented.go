package trust

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"os"
	"strings"

	"software.sslmate.com/src/go-pkcs12"
)

// ReadPresented reads a certificate with its key, to be presented as the
// client's: one file in PEM with both, "CERT,KEY" in two, or PKCS #12 that the
// secret, or one of the usual ones, opens.
func ReadPresented(place, secret string) (tls.Certificate, error) {
	path, keyPath, apart := strings.Cut(place, ",")
	if !apart {
		keyPath = path
	}
	text, err := readBounded(path)
	if err != nil {
		return tls.Certificate{}, err
	}
	if !bytes.Contains(text, []byte("-----BEGIN ")) {
		var c tls.Certificate
		_, err := opened(secret, func(secret string) ([][]byte, error) {
			key, leaf, more, err := pkcs12.DecodeChain(text, secret)
			if err == nil {
				c.PrivateKey, c.Certificate = key, append([][]byte{leaf.Raw}, raw(more)...)
			}
			return nil, err
		})
		if err != nil {
			return c, fmt.Errorf("%s: neither PEM nor PKCS #12 that this secret opens", path)
		}
		return c, nil
	}
	key, err := readBounded(keyPath)
	if err != nil {
		return tls.Certificate{}, err
	}
	c, err := tls.X509KeyPair(text, key)
	if err != nil {
		return c, fmt.Errorf("%s: %s; expected a certificate and its key, not encrypted, in one file or as CERT,KEY", place, strings.TrimPrefix(err.Error(), "tls: "))
	}
	return c, nil
}

func readBounded(path string) ([]byte, error) {
	info, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	if info.Size() > MostFile {
		return nil, fmt.Errorf("%s: %d bytes; at most %d are read", path, info.Size(), MostFile)
	}
	return os.ReadFile(path)
}
