package main

import (
	"bytes"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"fmt"
	"math/big"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"time"
)

// rival is a server that is visited.
//
//	browser --> way, which emulates the link --> server
//
// The browser finds each at localhost and a port of its own: another origin, another cache.
type rival struct {
	name   string
	home   string // of the browser
	origin string // where the browser finds it: over the link
	way    *emulated
	show   func(version int) error // the output before the deploy, or after it
	stop   func()
}

// serve starts both servers of a site, each with both outputs.
func serve(s *site, program, folder string) ([]*rival, error) {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return nil, err
	}
	chain, key, err := certificate(folder)
	if err != nil {
		return nil, err
	}
	node, err := orilla(s, program, folder, chain, key)
	if err != nil {
		return nil, err
	}
	nginx, err := nginx(s, folder, chain, key)
	if err != nil {
		return []*rival{node}, err
	}
	node.home, nginx.home = filepath.Join(folder, "browser"), filepath.Join(folder, "browser")
	return []*rival{node, nginx}, nil
}

// orilla starts an edge node.
func orilla(s *site, program, folder, chain, key string) (*rival, error) {
	address := free()
	way, err := emulate("127.0.0.1:0", address)
	if err != nil {
		return nil, err
	}
	origin := "localhost" + strings.TrimPrefix(way.Addr().String(), "127.0.0.1")
	project := filepath.Join(folder, "project")
	routes := ""
	if s.routes {
		routes = "rules: site.rules\n"
	}
	err = shell(folder, `
mkdir project && cd project && git init -q -b main
printf 'site: %s\nstore: ../store\n%b' "$name" "$routes" >orilla.yaml
printf 'environments:\n  production:\n    addresses: ["https://%s/"]\n' "$origin" >>orilla.yaml
echo 'fallback /{rest:all} -> /index.html' >site.rules
git add -A && git -c user.name=Ines -c user.email=ines@corvane.example commit -qm first
"$program" deploy --from "$before" --encode --yes && "$program" deploy --from "$after" --encode --yes`,
		"program="+program, "name="+s.name, "routes="+routes, "origin="+origin, "before="+s.outputs[0],
		"after="+s.outputs[1], "ORILLA_HOME="+filepath.Join(folder, "home"))
	if err != nil {
		return nil, err
	}
	// It answers at the name that the browser asks for, whatever the port.
	command := exec.Command(program, "edge", "--store", filepath.Join(folder, "store"), "--listen", free(),
		"--tls", address, "--certificate", chain+","+key)
	var said bytes.Buffer
	command.Env = append(os.Environ(), "ORILLA_HOME="+filepath.Join(folder, "home"))
	command.Stdout, command.Stderr = &said, &said
	if err := command.Start(); err != nil {
		return nil, err
	}
	r := &rival{name: "node", origin: origin, way: way}
	r.stop = func() { command.Process.Kill(); command.Wait() } //nolint:errcheck // it ends
	r.show = func(version int) error {
		err := shell(project, `"$program" deploy --from "$output" --yes --quiet`, "program="+program,
			"output="+s.outputs[version], "ORILLA_HOME="+filepath.Join(folder, "home"))
		time.Sleep(300 * time.Millisecond) // the node sees it within a tenth of that
		return err
	}
	if err := answers(address); err != nil {
		r.stop()
		return nil, fmt.Errorf("%w: %s", err, said.String())
	}
	return r, nil
}

// nginx starts nginx, with both outputs, each text compressed beside it.
func nginx(s *site, folder, chain, key string) (*rival, error) {
	program, err := exec.LookPath("nginx")
	if err != nil {
		if program, err = exec.LookPath("/usr/sbin/nginx"); err != nil {
			return nil, err
		}
	}
	address := free()
	way, err := emulate("127.0.0.1:0", address)
	if err != nil {
		return nil, err
	}
	err = shell(folder, `
mkdir nginx && cp -R "$before" nginx/0 && cp -R "$after" nginx/1 && ln -s 0 nginx/now
# nginx tells versions apart by their time and length, and would answer 304 for another page.
find nginx/0 -type f -exec touch -d yesterday {} +
for kind in html js css svg json txt; do find nginx -type f -name "*.$kind" -exec gzip -9 -k {} +; done`,
		"before="+s.outputs[0], "after="+s.outputs[1])
	if err != nil {
		return nil, err
	}
	missing := "=404"
	if s.routes {
		missing = "/index.html"
	}
	config := filepath.Join(folder, "nginx.conf")
	err = os.WriteFile(config, []byte(fmt.Sprintf(`
daemon off; worker_processes 1; pid %[1]s/pid; error_log %[1]s/errors;
events { worker_connections 1024; }
http {
  access_log off; sendfile on; tcp_nodelay on; gzip_static on; gzip_vary on;
  charset utf-8; charset_types text/css application/javascript;
  types { text/html html; text/css css; application/javascript js; image/svg+xml svg; font/woff2 woff2;
    text/plain txt; }
  client_body_temp_path %[1]s/a; proxy_temp_path %[1]s/b; fastcgi_temp_path %[1]s/c;
  uwsgi_temp_path %[1]s/d; scgi_temp_path %[1]s/e;
  server {
    listen %[2]s ssl http2; ssl_certificate %[3]s; ssl_certificate_key %[4]s; root %[1]s/nginx/now;
    location / { try_files $uri $uri.html $uri/index.html %[5]s; add_header Cache-Control no-cache; }
    location /assets/ { add_header Cache-Control "public, max-age=31536000, immutable"; }
  }
}
`, folder, address, chain, key, missing)), 0o600)
	if err != nil {
		return nil, err
	}
	command := exec.Command(program, "-c", config)
	if err := command.Start(); err != nil {
		return nil, err
	}
	origin := "localhost" + strings.TrimPrefix(way.Addr().String(), "127.0.0.1")
	r := &rival{name: "nginx", origin: origin, way: way}
	r.stop = func() { command.Process.Signal(os.Interrupt); command.Wait() } //nolint:errcheck // it ends
	// A link that is replaced: nobody gets half of one output and half of the other, as far
	// as that is possible with files.
	r.show = func(version int) error {
		return shell(folder, `ln -sfn "$version" nginx/next && mv -T nginx/next nginx/now`, fmt.Sprint("version=", version))
	}
	if err := answers(address); err != nil {
		r.stop()
		return nil, err
	}
	return r, nil
}

// free returns an address that nobody has at this moment.
func free() string {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return ""
	}
	defer listener.Close() //nolint:errcheck // it is only asked for its port
	return listener.Addr().String()
}

// answers waits until somebody listens at an address.
func answers(address string) error {
	for range 200 {
		if conn, err := net.Dial("tcp", address); err == nil {
			return conn.Close()
		}
		time.Sleep(50 * time.Millisecond)
	}
	return fmt.Errorf("nobody answers at %s", address)
}

// certificate makes one for localhost, and a home whose browser trusts who signed it: what
// comes with a certificate that is not trusted is neither kept nor made a dictionary.
func certificate(folder string) (chain, key string, err error) {
	about := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "Visits"},
		NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(24 * time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	authority, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", "", err
	}
	root, err := x509.CreateCertificate(rand.Reader, about, about, &authority.PublicKey, authority)
	if err != nil {
		return "", "", err
	}
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return "", "", err
	}
	leaf := &x509.Certificate{SerialNumber: big.NewInt(2), Subject: pkix.Name{CommonName: "localhost"},
		NotBefore: about.NotBefore, NotAfter: about.NotAfter, DNSNames: []string{"localhost"},
		KeyUsage: x509.KeyUsageDigitalSignature, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth}}
	made, err := x509.CreateCertificate(rand.Reader, leaf, about, &private.PublicKey, authority)
	if err != nil {
		return "", "", err
	}
	bytesOf, err := x509.MarshalECPrivateKey(private)
	if err != nil {
		return "", "", err
	}
	chain, key = filepath.Join(folder, "chain.pem"), filepath.Join(folder, "key.pem")
	written := map[string]*pem.Block{chain: {Type: "CERTIFICATE", Bytes: made},
		key:                               {Type: "EC PRIVATE KEY", Bytes: bytesOf},
		filepath.Join(folder, "root.pem"): {Type: "CERTIFICATE", Bytes: root}}
	for path, block := range written {
		if err := os.WriteFile(path, pem.EncodeToMemory(block), 0o600); err != nil {
			return "", "", err
		}
	}
	return chain, key, shell(folder, `mkdir -p browser/.pki/nssdb
certutil -d sql:browser/.pki/nssdb -N --empty-password
certutil -d sql:browser/.pki/nssdb -A -t C,, -n visits -i root.pem`)
}
