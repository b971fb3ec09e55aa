package demo

import (
	"crypto/tls"
	"encoding/json"
	"fmt"
	"io"
	"log"
	"net"
	"net/http"
	"os"
	"time"
)

// RunStandIn is the process of one stand-in: it serves as its settings file
// says until its standard input ends.
func RunStandIn(file string, stdin io.Reader, stdout io.Writer) error {
	text, err := os.ReadFile(file)
	if err != nil {
		return err
	}
	var s Stand
	if err := json.Unmarshal(text, &s); err != nil {
		return fmt.Errorf("%s: %w", file, err)
	}
	serve, ok := kinds[s.Kind]
	if !ok {
		return fmt.Errorf("%s: kind %q; expected https, http or hung", file, s.Kind)
	}
	if err := serve(s); err != nil {
		return err
	}
	fmt.Fprintln(stdout, "ready")
	_, err = io.Copy(io.Discard, stdin)
	return err
}

// kinds is what a stand-in can be. Each begins to serve and returns.
var kinds = map[string]func(Stand) error{
	"https": func(s Stand) error {
		cert, err := tls.LoadX509KeyPair(s.Cert, s.Key)
		if err != nil {
			return err
		}
		l, err := tls.Listen("tcp", s.Listen, &tls.Config{Certificates: []tls.Certificate{cert}})
		if err != nil {
			return err
		}
		go page(s).Serve(l) // ends with the process
		return nil
	},
	"http": func(s Stand) error {
		l, err := net.Listen("tcp", s.Listen)
		if err != nil {
			return err
		}
		go page(s).Serve(l) // ends with the process
		return nil
	},
	"hung": hang,
}

func page(s Stand) *http.Server {
	return &http.Server{
		ReadHeaderTimeout: 10 * time.Second,
		ErrorLog:          log.New(io.Discard, "", 0),
		Handler: http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
			w.Header().Set("Server", s.Program)
			fmt.Fprintf(w, "%s of the Várzea Hydrology Office\n", s.Program)
		}),
	}
}
