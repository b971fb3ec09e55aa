package trust

import (
	"bytes"
	"context"
	"crypto/tls"
	"fmt"
	"strings"
	"time"

	"uakari/internal/look/file"

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
		if err := checkPKCS12(text); err != nil {
			return tls.Certificate{}, fmt.Errorf("%s: %w", path, err)
		}
		var c tls.Certificate
		_, err := opened(secret, func(secret string) (_ [][]byte, err error) {
			c, err = timely(func() (tls.Certificate, error) {
				key, leaf, more, err := pkcs12.DecodeChain(text, secret)
				if err != nil {
					return tls.Certificate{}, err
				}
				return tls.Certificate{PrivateKey: key, Certificate: append([][]byte{leaf.Raw}, raw(more)...)}, nil
			})
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
		return c, fmt.Errorf(
			"%s: %s; expected a certificate and its key, not encrypted, in one file or as CERT,KEY",
			place,
			strings.TrimPrefix(err.Error(), "tls: "),
		)
	}
	return c, nil
}

// typedWait bounds how long a pipe that was named may take.
const typedWait = 10 * time.Second

func readBounded(path string) ([]byte, error) {
	ctx, cancel := context.WithTimeout(context.Background(), typedWait)
	defer cancel()
	return file.Typed(ctx, path, MostFile)
}
