package cli

import (
	"context"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"encoding/base64"
	"errors"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/sealed"
	"orilla.example/orilla/internal/demo"
	"orilla.example/orilla/internal/domains"
	"orilla.example/orilla/internal/edge"
	"orilla.example/orilla/internal/issuance"
	"orilla.example/orilla/internal/nameservers"
	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/standin/authority"
	"orilla.example/orilla/internal/standin/nameserver"
)

// The last chapter of the demo gives the site a name of its own. The name server and the
// authority are the stand-ins that ship with Orilla, in this process; everything else is as in
// the world: records are set by signed updates, challenges are made over the network, and a
// browser that trusts the authority sees a padlock.

// worldly are the demo's stand-ins, and the node's part of them.
type worldly struct {
	resolver        string // host:port
	key, root       string // files
	ca              *authority.Authority
	issuing         *issuing
	secure          net.Listener
	server          *nameserver.Server
	authorityServer *http.Server
	authoritative   net.Listener
}

// demoZone is the zone before the site is in it. Its times are short: nobody wants to wait in
// a demo for as long as in the world.
const demoZone = `$ORIGIN corvane.example.
@    5 IN SOA ns1 hostmaster 1 7200 900 1209600 3
@    5 IN NS  ns1
ns1  5 IN A   127.0.0.1
mail 5 IN A   192.0.2.25
@    5 IN MX  10 mail
`

// The zone is as somebody would have it who has had mail for years: what is there already has
// to be there afterwards, and one of the story's claims looks.

// newWorldly listens for everything that the chapter needs. folder is where files go.
func newWorldly(ctx context.Context, folder string, plain net.Listener, usual bool) (w *worldly, err error) {
	w = &worldly{key: filepath.Join(folder, "orilla.key"), root: filepath.Join(folder, "authority.pem")}
	zone, err := nameserver.ReadZone(demoZone, "corvane.example", time.Now())
	if err != nil {
		return nil, err
	}
	secret := make([]byte, 32)
	rand.Read(secret)
	key := nameservers.Key{Name: "orilla-demo", Algorithm: "hmac-sha256",
		Secret: base64.StdEncoding.EncodeToString(secret)}
	if err := os.WriteFile(w.key, []byte(key.String()), 0o600); err != nil {
		return nil, err
	}
	w.server = &nameserver.Server{Zones: []*nameserver.Zone{zone}, Keys: []nameservers.Key{key}}
	if w.resolver, err = w.server.Listen(ctx, "127.0.0.1:0", false); err != nil {
		return nil, err
	}
	_, port, _ := net.SplitHostPort(w.resolver)
	asker := nameservers.Asker{Resolver: w.resolver, Port: port}

	// The usual port if it is free, as for plain HTTP: addresses are then those of the
	// documentation.
	if usual {
		w.secure, err = (&net.ListenConfig{}).Listen(ctx, "tcp", usualTLS)
	}
	if !usual || err != nil {
		if w.secure, err = (&net.ListenConfig{}).Listen(ctx, "tcp", "127.0.0.1:0"); err != nil {
			return nil, err
		}
	}
	if w.authoritative, err = (&net.ListenConfig{}).Listen(ctx, "tcp", "127.0.0.1:0"); err != nil {
		return nil, err
	}
	w.ca = &authority.Authority{Base: "https://" + w.authoritative.Addr().String(), Asker: &asker,
		HTTPPort: portText(plain), TLSPort: portText(w.secure)}
	if err := os.WriteFile(w.root, w.ca.Root(), 0o600); err != nil {
		return nil, err
	}
	if w.authorityServer, err = authorityServer(w.ca); err != nil {
		return nil, err
	}
	sealing, err := sealed.Parse([]byte(sealed.New()))
	if err != nil {
		return nil, err
	}
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(w.ca.Root())
	w.issuing = &issuing{port: portText(plain), looker: &domains.Looker{Asker: asker},
		options: issuance.Options{
			Directory: w.ca.Base + "/directory", Roots: roots, Secret: sealing,
			DNS: &issuance.DNS{Asker: &asker, Key: key}}}
	w.secure = connections.Secure(w.secure, tlsOf(nil, w.issuing))
	return w, nil
}

// portText is the port that a listener has.
func portText(l net.Listener) string {
	_, port, _ := net.SplitHostPort(l.Addr().String())
	return port
}

// answers says where the named site is to be found. No browser asks the stand-in by itself, and
// none trusts its authority: whoever wants to see the padlock tells one to do both.
func (w *worldly) answers() string {
	return "it also answers at https://www.corvane.example:" + portText(w.secure) +
		"/, for programs that ask the resolver " + w.resolver
}

// run serves the stand-ins and has certificates issued, until the context ends.
func (w *worldly) run(ctx context.Context, node *edge.Node) {
	var owned sync.WaitGroup
	owned.Go(func() { w.server.Serve(ctx) }) //nolint:errcheck // the checks tell
	owned.Go(func() {
		w.authorityServer.ServeTLS(w.authoritative, "", "") //nolint:errcheck // it was closed
	})
	owned.Go(func() { w.issuing.run(ctx, node) })
	<-ctx.Done()
	w.authorityServer.Close() //nolint:errcheck // it ends with the demo
	owned.Wait()
}

// Each command runs with the stand-in as its resolver, as typed by whoever tries this at home;
// only the first one finds something to complain about, and is expected to.

// tellName is the part of the story in which the site gets its name.
func tellName(ctx context.Context, t *tale) error {
	t.say("The ferry line has a domain: corvane.example. Where the edge nodes are, and which addresses " +
		"the site has,\ngoes into orilla.yaml. A name server and a certificate authority of Orilla's own " +
		"stand in for those of the world.")
	if err := demo.Name(ctx, t.project, t.port(), portText(t.world.secure)); err != nil {
		return err
	}
	if err := t.run(ctx, "deploy"); err != nil {
		return err
	}
	ask := []string{"--resolver", t.world.resolver}
	if err := runs(ctx, t, int(fault.Findings), append([]string{"domains"}, ask...)...); err != nil {
		return err
	}
	t.say("The name server takes updates, so Orilla sets the records: those, and nothing else. " +
		"Elsewhere one pastes them.")
	if err := t.run(ctx, append([]string{"domains", "records", "--apply", "--yes", "--key", t.world.key},
		ask...)...); err != nil {
		return err
	}
	// With a preview there is somebody for whom the wildcard is.
	if err := t.run(ctx, "deploy", demo.Correction, "--to", "preview/"+demo.Correction); err != nil {
		return err
	}
	t.say("Now servers and caches have to notice, and the edge node has its certificates issued. " +
		"Orilla says what it waits for.")
	if err := t.run(ctx, append([]string{"domains", "--wait", "--authority", t.world.root},
		ask...)...); err != nil {
		return err
	}
	if !t.once {
		return nil
	}

	const www = "www.corvane.example"
	tlsPort := portText(t.world.secure)
	status, _, body := over(ctx, t, "https", www, tlsPort, "/fares")
	t.claim(ctx, "the site answers over TLS, with a certificate for its name", status == 200 &&
		strings.Contains(body, ">43.00<"))
	moved := "https://" + net.JoinHostPort(www, tlsPort) + "/sailings/winter?day=sat"
	status, location, _ := over(ctx, t, "http", "corvane.example", t.port(), "/timetable/winter?day=sat")
	t.claim(ctx, "an old URL of the apex over http leads to https, www and its new place in one hop",
		status == 301 && location == moved)
	status, location, _ = over(ctx, t, "http", www, t.port(), "/")
	t.claim(ctx, "plain http leads to https", status == 301 && location == "https://"+net.JoinHostPort(
		www, tlsPort)+"/")
	preview := project.BranchLabel(demo.Correction) + ".preview.corvane.example"
	holds := t.within(func() bool {
		status, _, _ := over(ctx, t, "https", preview, tlsPort, "/fares")
		return status == 200
	})
	t.claim(ctx, "a preview has its own name, under one certificate for all of them", holds)
	found, err := t.world.ca.Asker.Records(ctx, t.world.resolver, "corvane.example", "MX", false)
	t.claim(ctx, "what others had in the zone is there as it was", err == nil && len(found) == 1)
	return nil
}

// Names are asked for as a browser would that uses the stand-in as its resolver: the node is
// dialled where the records lead, and what it shows has to be for the name and of the
// authority. Anything else is no answer.

// over asks the edge node for a page of a host, and returns where it leads and what it says.
// A certificate that is not for the host, or not of the authority, is no answer.
func over(ctx context.Context, t *tale, scheme, host, port, path string) (status int, location,
	body string) {
	roots := x509.NewCertPool()
	roots.AppendCertsFromPEM(t.world.ca.Root())
	client := &http.Client{CheckRedirect: func(*http.Request,
		[]*http.Request) error {
		return http.ErrUseLastResponse
	},
		Transport: &http.Transport{DisableKeepAlives: true, TLSClientConfig: &tls.Config{RootCAs: roots},
			DialContext: func(ctx context.Context, network, _ string) (net.Conn, error) {
				return (&net.Dialer{}).DialContext(ctx, network, net.JoinHostPort("127.0.0.1", port))
			}}}
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, scheme+"://"+net.JoinHostPort(host,
		port)+path, nil)
	if err != nil {
		return 0, "", ""
	}
	response, err := client.Do(request)
	if err != nil {
		return 0, "", err.Error()
	}
	defer response.Body.Close() //nolint:errcheck // read
	data, _ := io.ReadAll(io.LimitReader(response.Body, 1<<20))
	return response.StatusCode, response.Header.Get("Location"), string(data)
}

// runs is run for a command that ends with a status of its own.
func runs(ctx context.Context, t *tale, status int, args ...string) error {
	t.announce(args)
	self, err := os.Executable()
	if err != nil {
		return err
	}
	command := exec.CommandContext(ctx, self, args...)
	command.Dir, command.Env = t.project, t.environment()
	command.Stdout, command.Stderr = os.Stdout, os.Stderr
	err = process.Run(command)
	if exit, ok := errors.AsType[*exec.ExitError](err); ok && exit.ExitCode() == status {
		return nil
	}
	return fault.New(fault.Failed, "demo", "this step of the demo failed: orilla %s", strings.Join(args,
		" ")).
		Because(err).Then("orilla doctor")
}
