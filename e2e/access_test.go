package e2e

import (
	"bufio"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/json"
	"encoding/pem"
	"math/big"
	"net"
	"net/http"
	"net/http/httptest"
	"os"
	"os/exec"
	"path/filepath"
	"regexp"
	"strings"
	"testing"
	"time"

	"idlebeacon/api"
	"idlebeacon/client"
	"idlebeacon/internal/polltest"
)

// TestRolesByCommandLine does with a key of each role what it may, and what it may not.
func TestRolesByCommandLine(t *testing.T) {
	t.Parallel() // it has a service of its own
	p := start(t, filepath.Join(t.TempDir(), "demo"), "demo", "--places", "50")
	as := func(role string) []string {
		return []string{"--server", p.url, "--key", "@" + filepath.Join(p.data, role+".key")}
	}
	guest := []string{"--server", p.url, "--data", t.TempDir()} // where there is no key
	for _, c := range []struct {
		args   []string
		as     []string
		status int
		want   string
	}{
		{[]string{"whoami"}, guest, 0, "A guest of"},
		{[]string{"collections"}, guest, 0, "brindlemere"},
		{[]string{"keys"}, guest, 1, "needs the role owner"},
		{[]string{"keys"}, guest, 1, "No key was sent"},
		{[]string{"whoami"}, as("reader"), 0, "Sees places, areas and paths of the collection brindlemere."},
		{[]string{"markers", "--zoom", "9", "--collection", "brindlemere"}, as("reader"), 0, "50"},
		{[]string{"legend", "--collection", "waters"}, as("reader"), 1, `there is no collection "waters"`},
		{[]string{"collections", "delete", "brindlemere", "--yes"}, as("contributor"), 1, "has the role contributor"},
		{[]string{"collections", "delete", "brindlemere", "--yes"}, as("editor"), 1, "The key that was sent is that in "},
		{[]string{"whoami"}, as("device"), 0, "Reports positions of the device WB-07."},
		{[]string{"keys"}, as("owner"), 0, "Wardens' handhelds"},
		{[]string{"collections", "change", "waters", "--guests", "nothing"}, as("owner"), 0, "Guests may do nothing"},
		{[]string{"legend", "--collection", "waters"}, guest, 1, "it takes a key to see it"},
		{[]string{"whoami"}, []string{"--server", p.url, "--key", "ibkey_x"}, 1, "cut off or mistyped"},
		{[]string{"whoami"}, []string{"--server", p.url, "--key", "@" + p.data + "/none"}, 2, "reading the key"},
		// The owner key of a service on this machine is found by its data directory.
		{[]string{"whoami"}, []string{"--server", p.url, "--data", p.data}, 0, "owner at"},
	} {
		out, errs, status := command(t, []string{"IDLEBEACON_KEY="}, nil, append(c.args, c.as...)...)
		if status != c.status || !strings.Contains(out+errs, c.want) {
			t.Errorf("%v: status %d, want %d with %q\n%s%s", append(c.args, c.as...), status, c.status, c.want, out, errs)
		}
		if strings.Contains(out+errs, "ibkey_") && !strings.Contains(out+errs, "ibkey_...") {
			t.Errorf("%v prints a secret: %s%s", c.args, out, errs)
		}
	}
}

// TestKeysByCommandLine makes, shows, changes and revokes a key, and keeps servers in a file.
func TestKeysByCommandLine(t *testing.T) {
	t.Parallel() // it has a service of its own
	p := start(t, filepath.Join(t.TempDir(), "data"), "serve")
	c := &commands{t, p.url}
	out, errs, status := command(t, nil, nil, "keys", "add", "Harbour kiosk", "--role", "reader", "--per-minute", "60",
		"--server", p.url)
	if status != 0 || !regexp.MustCompile(`^ibkey_[a-z2-7]{40}\n$`).MatchString(out) ||
		!strings.Contains(errs, "at most 60") {
		t.Fatalf("%d %s %s", status, out, errs)
	}
	secret := strings.TrimSpace(out)
	c.contains(c.run(0, "keys"), "Harbour kiosk", "First owner key", "live")
	c.contains(c.run(0, "keys", "show", "Harbour kiosk"), "ends with ..."+secret[len(secret)-4:], "Requests")
	c.contains(c.run(0, "keys", "change", "Harbour kiosk", "--role", "editor", "--own", "--per-minute", "0", "--expires",
		"720h"), "takes out only what it added itself; until")
	c.run(2, "keys", "change", "Harbour kiosk")
	c.run(2, "keys", "add", "x")
	c.run(2, "keys", "add", "x", "--role", "king")
	c.run(1, "keys", "show", "nobody")
	c.contains(c.run(2, "keys", "revoke", "Harbour kiosk"), "add --yes")

	file := filepath.Join(t.TempDir(), "servers.yaml")
	write(t, file, "harbour: { url: \""+p.url+"\", key: \""+secret+"\" }\n")
	named := []string{"whoami", "--server", "harbour", "--servers", file}
	if out, errs, status := command(t, nil, nil, named...); status != 0 || !strings.Contains(out, "Harbour kiosk") {
		t.Errorf("%d %s%s", status, out, errs)
	}
	if err := os.Chmod(file, 0o644); err != nil {
		t.Fatal(err)
	}
	if _, errs, status := command(t, nil, nil, named...); status != 2 || !strings.Contains(errs, "chmod 600") {
		t.Errorf("a file that others may read: %d %s", status, errs)
	}
	c.contains(c.run(0, "keys", "revoke", "Harbour kiosk", "--yes"), "Revoked")
	if _, errs, status := command(t, nil, nil, "whoami", "--server", p.url, "--key", secret); status != 1 ||
		!strings.Contains(errs, "revoked") {
		t.Errorf("%d %s", status, errs)
	}
	c.contains(c.run(0, "keys", "--all"), "revoked")

	// When all owner keys are lost, the data directory makes another.
	if _, errs, status := command(t, nil, nil, "keys", "new-owner", "--data", p.data); status != 1 ||
		!strings.Contains(errs, "stop it") {
		t.Errorf("while it runs: %d %s", status, errs)
	}
	p.stop(t)
	// Whatever is at the address of a service that was killed is not sent its key.
	stranger := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if r.Header.Get("Authorization") != "" {
			t.Error("the key of a service that has gone is sent to somebody else")
		}
		w.WriteHeader(http.StatusUnauthorized)
	}))
	defer stranger.Close()
	write(t, filepath.Join(p.data, "service.url"), stranger.URL+"\n")
	if _, errs, status := command(t, []string{"IDLEBEACON_KEY="}, nil, "keys", "--server", stranger.URL, "--data",
		p.data); status != 1 || !strings.Contains(errs, "No key was sent") {
		t.Errorf("%d %s", status, errs)
	}
	if err := os.Remove(filepath.Join(p.data, "owner.key")); err != nil {
		t.Fatal(err)
	}
	if out, errs, status := command(t, nil, nil, "keys", "new-owner", "--data", p.data); status != 0 ||
		!strings.Contains(out, "owner.key") {
		t.Fatalf("%d %s%s", status, out, errs)
	}
	again := start(t, p.data, "serve")
	c.server = again.url
	c.contains(c.run(0, "keys"), "Owner key from the data")
	if info, err := os.Stat(filepath.Join(p.data, "owner.key")); err != nil || info.Mode().Perm() != 0o600 {
		t.Errorf("%v %v", info.Mode(), err)
	}
}

// stub starts a stand-in issuer and returns its address.
func stub(t *testing.T) string {
	t.Helper()
	cmd := exec.Command(program, "issuer-stub", "--listen", "127.0.0.1:0")
	out, err := cmd.StdoutPipe()
	if err != nil {
		t.Fatal(err)
	}
	if err := cmd.Start(); err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() {
		_ = cmd.Process.Signal(os.Interrupt)
		_ = cmd.Wait()
	})
	line, err := bufio.NewReader(out).ReadString('\n')
	if err != nil {
		t.Fatal(err)
	}
	return strings.TrimSpace(line[strings.Index(line, "http"):])
}

// trust lets a service take the tokens of a stand-in issuer.
func trust(t *testing.T, p *process, issuer string) {
	t.Helper()
	file := filepath.Join(t.TempDir(), "trust.json")
	settings, err := json.Marshal(api.IssuerSettings{
		Title: "The Trust's accounts", Issuer: issuer, KeysFrom: "discovery", Audience: []string{"brindlemere-app"},
		ClientID: "idle-beacon", Rules: []api.ClaimRule{
			{Claim: "groups", Has: "office", Role: "owner"}, {Claim: "groups", Has: "wardens", Role: "editor"},
			{Role: "reader", Collections: []string{"brindlemere"}},
		},
	})
	if err != nil {
		t.Fatal(err)
	}
	write(t, file, string(settings))
	c := &commands{t, p.url}
	_, _, token := get(t, issuer+"/token-of/maren")
	c.contains(c.run(0, "issuers", "check", "--settings", file, "--token", token), "rule 2 decides",
		"Maren Holt is an editor")
	c.contains(c.run(0, "issuers", "add", "trust", "--settings", file), "are taken, by 3 rules")
}

// TestPeopleOfAnIssuer lets people of an issuer call, and sign in to the console.
func TestPeopleOfAnIssuer(t *testing.T) {
	t.Parallel() // it has a service of its own
	p := start(t, filepath.Join(t.TempDir(), "demo"), "demo", "--places", "50")
	issuer := stub(t)
	trust(t, p, issuer)
	_, _, token := get(t, issuer+"/token-of/maren")
	maren, err := client.New(p.url, client.WithKey(strings.TrimSpace(token)))
	if err != nil {
		t.Fatal(err)
	}
	if s, err := maren.Session(t.Context()); err != nil || s.ID != "person/trust/maren" || s.Role != "editor" {
		t.Errorf("%+v, %v", s, err)
	}
	if _, err := maren.CreateItem(t.Context(), "brindlemere", newItem("by maren")); err != nil {
		t.Error(err)
	}
	tab := browseAfter(t, 1280, 800, p.url)
	tab.until(`document.querySelector('.who')?.innerText === 'Sign in'`)
	tab.until(clicked(".who", "Sign in"))
	tab.leave(clicked(".account a", "Sign in with The Trust's accounts"), `text().includes('Stand-in issuer')`)
	tab.leave(clicked("button", "Ivo Quell"), `document.querySelector('.who')?.innerText === 'Ivo Quell'`)
	tab.until(`!text().includes('Waters of the Isles') && text().includes('Brindlemere Moorings Trust')`)
	if eval[bool](tab, `[...document.querySelectorAll('nav a')].some(a => a.innerText === 'Access')`) {
		t.Error("a reader is shown the page Access")
	}
	tab.until(clicked(".who", "Ivo Quell"))
	tab.leave(clicked(".account button", "Sign out"), `document.querySelector('.who')?.innerText === 'Sign in'`)
	// Whoever is taken out is signed out.
	(&commands{t, p.url}).run(0, "issuers", "remove", "trust", "--yes")
	if _, err := maren.Session(t.Context()); err == nil {
		t.Error("a token of an issuer that was removed is taken")
	}
}

// TestAccessPage signs in by the address that the demo prints, makes a key, and revokes it.
func TestAccessPage(t *testing.T) {
	t.Parallel() // it has a service of its own
	p := start(t, filepath.Join(t.TempDir(), "demo"), "demo", "--places", "50")
	address := regexp.MustCompile(`http://\S+/#sign-in=\S+`).FindString(p.said())
	tab := browseAfter(t, 1280, 800, address)
	tab.until(`document.querySelector('.who')?.innerText === 'First owner key' && location.hash === ''`)
	tab.until(clicked("nav a", "Access"))
	tab.until(clicked("button", "Make a key"))
	tab.until(`fill('#key-name', 'Kiosk at the quay')`)
	tab.until(clicked("label", "only these:"))
	tab.until(clicked(".some label", "Waters of the Isles"))
	tab.until(`document.querySelector('[data-part=can]')?.innerText.includes('of the collection waters.')`)
	tab.until(clicked("button", "Make the key"))
	tab.until(`document.querySelector('.secret code')`)
	secret := eval[string](tab, `document.querySelector('.secret code').innerText`)
	kiosk, err := client.New(p.url, client.WithKey(secret))
	if err != nil {
		t.Fatal(err)
	}
	if s, err := kiosk.Session(t.Context()); err != nil || s.Name != "Kiosk at the quay" || s.Role != "reader" {
		t.Errorf("%+v, %v", s, err)
	}
	tab.until(clicked("button", "Done"))
	if eval[bool](tab, `document.body.innerHTML.includes('`+secret+`')`) {
		t.Error("the secret is still on the page")
	}
	tab.until(clicked(`[data-key="Kiosk at the quay"] button`, "Revoke"))
	tab.until(clicked(".ask button", "Revoke"))
	tab.until(`!document.querySelector('[data-key="Kiosk at the quay"]')`)
	if _, err := kiosk.Session(t.Context()); err == nil {
		t.Error("a key that was revoked is taken")
	}
	// The code has signed in once, and does not again.
	other := browseAfter(t, 1280, 800, address)
	other.until(`text().includes('used already')`)
	other.until(`document.querySelector('.who')?.innerText === 'Sign in'`)
	// A guest sees what is open, and is not shown what it may not.
	other.until(clicked(".account button[aria-label]", ""))
	other.until(clicked("nav a", "Data"))
	other.until(`text().includes('Sign in as an owner to import files') && !text().includes('Drop a file') &&
		![...document.querySelectorAll('button')].some(b => b.innerText === 'Style')`)
}

// TestOnANetwork runs a service by TLS on another address of the machine, and calls it by the
// client, the command line, curl and a browser.
func TestOnANetwork(t *testing.T) {
	t.Parallel() // it has a service of its own
	dir := t.TempDir()
	chain, key := filepath.Join(dir, "chain.pem"), filepath.Join(dir, "key.pem")
	certify(t, chain, key, "127.0.0.2")
	data := filepath.Join(dir, "data")
	p, err := launch(data, "serve", "--tls-certificate", chain, "--tls-key", key, "--hosts", "maps.example", "--listen",
		"127.0.0.2:0")
	if err != nil {
		t.Fatal(err)
	}
	t.Cleanup(func() { p.stop(t) })
	if !strings.HasPrefix(p.url, "https://127.0.0.2:") {
		t.Fatalf("it serves at %s", p.url)
	}
	out, errs, status := command(t, nil, nil, "whoami", "--server", p.url, "--data", data, "--ca", chain)
	if status != 0 || !strings.Contains(out, "owner at https://127.0.0.2:") {
		t.Errorf("the command line: %d %s%s", status, out, errs)
	}
	if _, errs, status := command(t, nil, nil, "whoami", "--server", p.url); status != 1 || !strings.Contains(errs,
		"certificate") {
		t.Errorf("without trusting the certificate: %d %s", status, errs)
	}
	curl := func(args ...string) string {
		t.Helper()
		out, err := exec.Command("curl", append([]string{"-s", "--cacert", chain, "-H", "Authorization: Bearer " +
			ownerOf(p.url)}, args...)...).CombinedOutput()
		if err != nil {
			t.Errorf("curl %v: %v %s", args, err, out)
		}
		return string(out)
	}
	if got := curl(p.url + "/api/session"); !strings.Contains(got, `"role":"owner"`) {
		t.Errorf("curl: %s", got)
	}
	if got := curl("-D", "-", p.url+"/"); !strings.Contains(strings.ToLower(got), "strict-transport-security") {
		t.Errorf("curl: %s", got)
	}
	port := p.url[strings.LastIndex(p.url, ":")+1:]
	if got := curl("-o", "/dev/null", "-w", "%{http_code}", "-H", "Host: maps.example:"+port, p.url+"/api"); got != "200" {
		t.Errorf("by its name: %s", got)
	}
	if got := curl("-H", "Host: evil.example", p.url+"/api"); !strings.Contains(got, "does not answer to the name") {
		t.Errorf("by another name: %s", got)
	}
	tab := browse(t, 1280, 800, p.url)
	tab.until(`document.querySelector('.who')?.innerText === 'First owner key'`)

	// A certificate that was renewed is in use soon.
	old := served(t, p.url)
	certify(t, chain, key, "127.0.0.2")
	polltest.Until(t, "the new certificate to be in use", func() bool { return !old.Equal(served(t, p.url)) })
}

// certify writes a certificate for an address, that vouches for itself.
func certify(t *testing.T, chain, key, address string) {
	t.Helper()
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		t.Fatal(err)
	}
	serial, err := rand.Int(rand.Reader, big.NewInt(1<<62))
	if err != nil {
		t.Fatal(err)
	}
	form := &x509.Certificate{
		SerialNumber: serial, Subject: pkix.Name{CommonName: "Idle Beacon test"}, NotBefore: time.Now().Add(-time.Hour),
		NotAfter: time.Now().Add(time.Hour), IPAddresses: []net.IP{net.ParseIP(address)}, IsCA: true,
		BasicConstraintsValid: true, KeyUsage: x509.KeyUsageDigitalSignature | x509.KeyUsageCertSign,
		ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth},
	}
	made, err := x509.CreateCertificate(rand.Reader, form, form, private.Public(), private)
	if err != nil {
		t.Fatal(err)
	}
	secret, err := x509.MarshalPKCS8PrivateKey(private)
	if err != nil {
		t.Fatal(err)
	}
	write(t, key, string(pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: secret})))
	write(t, chain, string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: made})))
}

// served returns the certificate that a service shows.
func served(t *testing.T, address string) *x509.Certificate {
	t.Helper()
	dialer := tls.Dialer{Config: &tls.Config{InsecureSkipVerify: true}}
	conn, err := dialer.DialContext(t.Context(), "tcp", strings.TrimPrefix(address, "https://"))
	if err != nil {
		t.Fatal(err)
	}
	defer conn.Close()
	return conn.(*tls.Conn).ConnectionState().PeerCertificates[0]
}
