package main

import (
	"bufio"
	"cmp"
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"io/fs"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"go.yaml.in/yaml/v3"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/core/loopback"
	"idlebeacon/internal/core/secret"
	"idlebeacon/internal/daemon"
)

// A server is a service that commands call, and how.
type server struct {
	URL string `yaml:"url"`
	Key string `yaml:"key"`
	CA  string `yaml:"ca"` // file with certificates to trust beside the machine's

	keyFrom string // where the key comes from, for messages; "" if there is none
}

// usualServers returns the file with servers that is looked at if no other is named; "" if
// there is no place for one.
func usualServers() string {
	dir, err := os.UserConfigDir()
	if err != nil {
		return ""
	}
	return filepath.Join(dir, "idlebeacon", "servers.yaml")
}

// target returns the service that a command is to call: that of a URL, or the one that a file
// knows by its name. The key is that of the options, of the file, or the owner key in the data
// directory of a service on this machine.
func (r *remote) target() (server, error) {
	s := server{URL: r.server}
	if !strings.Contains(r.server, "://") {
		file := cmp.Or(r.servers, usualServers())
		known, err := readServers(file)
		if err != nil {
			return s, err
		}
		found, there := known[r.server]
		if !there {
			return s, fmt.Errorf("%q is neither the URL of a service nor the name of one in %s", r.server, file)
		}
		s = found
		if s.Key != "" {
			s.keyFrom = fmt.Sprintf("that of %s in %s", r.server, file)
		}
	}
	if r.ca != "" {
		s.CA = r.ca
	}
	if r.key != "" {
		s.Key, s.keyFrom = r.key, "that of --key or IDLEBEACON_KEY"
		if file, named := strings.CutPrefix(r.key, "@"); named {
			text, err := readKey(file)
			if err != nil {
				return s, err
			}
			s.Key, s.keyFrom = text, "that in "+file
		}
	}
	if s.Key == "" {
		if file := r.ownerKeyOf(s.URL); file != "" {
			text, err := readKey(file)
			switch {
			case errors.Is(err, fs.ErrPermission), errors.Is(err, fs.ErrNotExist):
			case err != nil:
				return s, err
			default:
				s.Key, s.keyFrom = text, "the owner key in "+file
			}
		}
	}
	return s, nil
}

// readServers reads a file of servers by name. Nobody else may be able to read it, because
// there are keys in it.
func readServers(file string) (map[string]server, error) {
	info, err := os.Stat(file)
	if errors.Is(err, fs.ErrNotExist) {
		return nil, nil
	}
	if err != nil {
		return nil, fmt.Errorf("reading the servers: %w", err)
	}
	const others = 0o077
	if info.Mode().Perm()&others != 0 {
		return nil, fmt.Errorf("others on this machine may read %s, which has keys in it: run 'chmod 600 %s'", file, file)
	}
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("reading the servers: %w", err)
	}
	known := map[string]server{}
	decoder := yaml.NewDecoder(strings.NewReader(string(text)))
	decoder.KnownFields(true)
	if err := decoder.Decode(&known); err != nil {
		return nil, fmt.Errorf("%s is to have a name for each server with its url and key: %s", file,
			secret.Mask(err.Error()))
	}
	return known, nil
}

// readKey reads the key in a file.
func readKey(file string) (string, error) {
	f, err := os.Open(file)
	if err != nil {
		return "", fmt.Errorf("reading the key: %w", err)
	}
	defer f.Close()
	lines := bufio.NewScanner(f)
	lines.Scan()
	if err := lines.Err(); err != nil {
		return "", fmt.Errorf("reading the key in %s: %w", file, err)
	}
	text := strings.TrimSpace(lines.Text())
	if text == "" {
		return "", fmt.Errorf("there is no key in %s", file)
	}
	return text, nil
}

// ownerKeyOf returns the file with the owner key of a service on this machine that answers at
// an address, or "": of the data directory that was named, or of one of the usual ones.
func (r *remote) ownerKeyOf(address string) string {
	dirs := []string{defaultData, demoData}
	if r.data != "" {
		dirs = []string{r.data}
	}
	for _, dir := range dirs {
		text, err := os.ReadFile(filepath.Join(dir, daemon.AddressFile))
		if err == nil && sameService(strings.TrimSpace(string(text)), address) && daemon.Runs(dir) {
			return filepath.Join(dir, daemon.OwnerKeyFile)
		}
	}
	return ""
}

// sameService reports whether two addresses are of one service on this machine.
func sameService(noted, asked string) bool {
	a, errA := url.Parse(noted)
	b, errB := url.Parse(asked)
	if errA != nil || errB != nil || a.Scheme != b.Scheme || a.Port() != b.Port() {
		return false
	}
	return a.Hostname() == b.Hostname() || loopback.Is(a.Hostname()) && loopback.Is(b.Hostname())
}

// client returns a client of the service that the options name.
func (r *remote) client() (*client.Client, error) {
	s, err := r.target()
	if err != nil {
		return nil, &usageError{err}
	}
	r.called = s
	var options []client.Option
	if s.Key != "" {
		options = append(options, client.WithKey(s.Key))
	}
	if s.CA != "" {
		transport, err := trusting(s.CA)
		if err != nil {
			return nil, &usageError{err}
		}
		options = append(options, client.WithHTTPClient(&http.Client{Transport: transport}))
	}
	options = append(options, client.WithAgent(api.CommandAgent+"/"+version))
	c, err := client.New(s.URL, options...)
	if err != nil {
		return nil, &usageError{err}
	}
	return c, nil
}

// trusting returns a transport that trusts the certificates in a file beside the machine's.
func trusting(file string) (*http.Transport, error) {
	text, err := os.ReadFile(file)
	if err != nil {
		return nil, fmt.Errorf("reading the certificates to trust: %w", err)
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(text) {
		return nil, fmt.Errorf("there is no certificate in %s", file)
	}
	transport := http.DefaultTransport.(*http.Transport).Clone()
	transport.TLSClientConfig = &tls.Config{RootCAs: pool, MinVersion: tls.VersionTLS12}
	return transport, nil
}

// asWhom says after a refusal which key was sent.
func (r *remote) asWhom(answered *client.Error) string {
	switch {
	case answered.Status != http.StatusUnauthorized && answered.Status != http.StatusForbidden:
		return ""
	case r.called.keyFrom == "":
		return "\nNo key was sent: name one with --key, or the data directory of the service with --data"
	}
	return "\nThe key that was sent is " + r.called.keyFrom
}
