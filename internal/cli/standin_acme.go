package cli

import (
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"errors"
	"net/http"
	"net/url"
	"os"
	"strconv"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/standin/authority"
)

// The stand-in really makes its challenges, at a node on this machine: a name that does not
// lead there, CAA records that forbid it, and a node that does not know the order all fail as
// they would at an authority in the world.

// acmeOptions are what the authority takes.
type acmeOptions struct {
	listen, resolver, root, lasts string
	httpPort, tlsPort             int64
}

// usualACME is where the authority listens.
const usualACME = "127.0.0.1:7454"

func newStandInACMECommand(c *standInCmd) *cobra.Command {
	var o acmeOptions
	cmd := &cobra.Command{
		Use: "acme", Short: "Run a certificate authority that speaks ACME", Args: cobra.NoArgs,
		Long: "The authority issues certificates for names that it finds through the resolver, after it " +
			"has made the challenges at an edge node on this machine. Nobody trusts it, unless told to: " +
			"its own certificate is written to --root. It forgets everything when it ends.",
		Example: "orilla stand-in acme --root authority.pem\n" +
			"orilla edge --acme https://" + usualACME + "/directory --secret orilla.secret",
		RunE: func(cmd *cobra.Command, _ []string) error { return c.acme(cmd.Context(), o) },
	}
	flags := cmd.Flags()
	flags.StringVar(&o.listen, "listen", usualACME, "the `ADDRESS` to answer on")
	flags.StringVar(&o.resolver, "resolver", usualDNS, "ask the resolver at this `ADDRESS`")
	flags.StringVar(&o.root, "root", "authority.pem", "write the authority's certificate to this `FILE`")
	flags.StringVar(&o.lasts, "valid", "90d", "let certificates be valid for this `TIME`")
	flags.Int64Var(&o.httpPort, "http-port", 7420, "the `PORT` of edge nodes for challenges over HTTP")
	flags.Int64Var(&o.tlsPort, "tls-port", 7443, "the `PORT` of edge nodes for challenges over TLS")
	return cmd
}

// acme runs the authority until it is interrupted.
func (a *standInCmd) acme(ctx context.Context, o acmeOptions) error {
	lasts, err := project.ParseDuration(o.lasts)
	if err != nil {
		return fault.New(fault.Usage, "usage", "--valid: %s", err)
	}
	asker, err := askerOf(lookOptions{resolver: o.resolver})
	if err != nil {
		return err
	}
	if asker == nil {
		return fault.New(fault.Usage, "usage", "--resolver: an authority has to find the names it certifies")
	}
	// The address is taken first: it is part of every address in the directory.
	listener, err := a.listen(ctx, "--listen", o.listen)
	if err != nil {
		return err
	}
	ca := &authority.Authority{Base: "https://" + listener.Addr().String(), Asker: asker,
		HTTPPort: strconv.FormatInt(o.httpPort, 10), TLSPort: strconv.FormatInt(o.tlsPort, 10),
		Lasts: time.Duration(lasts), Tell: func(text string) {
			a.Print("%s  %s", console.Faint(time.Now().Format(time.TimeOnly)), text)
		}}
	server, err := authorityServer(ca)
	if err != nil {
		return err
	}
	// Whoever is to believe the authority, nodes and browsers alike, is given this file.
	root := a.path(o.root)
	if err := os.WriteFile(root, ca.Root(), 0o600); err != nil {
		return fault.New(fault.Failed, "root", "cannot write the authority's certificate").At("%s",
			root).Because(err)
	}

	a.Note("%s %s", console.Strong("stand-in authority at"), console.Accent(ca.Base+"/directory")+
		console.Faint("  nobody trusts it, unless told to"))
	a.Note("its certificate: %s", root)
	a.Note("%s %s", console.Accent("next:"), "set tls.acme of edge.yaml: directory, authority: "+root)
	// Nothing is kept, so there is nothing to finish.
	stopped := context.AfterFunc(ctx, func() { server.Close() }) //nolint:errcheck // it ends with the program
	defer stopped()
	if err := server.ServeTLS(listener, "", ""); !errors.Is(err, http.ErrServerClosed) {
		return err
	}
	return nil
}

// authorityServer is how an authority is served: over TLS, since ACME is spoken over nothing
// else, with a certificate for this machine that it signs itself.
func authorityServer(ca *authority.Authority) (*http.Server, error) {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	if err != nil {
		return nil, err
	}
	base, err := url.Parse(ca.Base)
	if err != nil {
		return nil, err
	}
	leaf, err := ca.Certificate(key.Public(), []string{base.Hostname(), "localhost"})
	if err != nil {
		return nil, err
	}
	return &http.Server{Handler: ca, ReadHeaderTimeout: time.Minute,
		TLSConfig: &tls.Config{MinVersion: tls.VersionTLS12, Certificates: []tls.Certificate{{
			Certificate: [][]byte{leaf}, PrivateKey: key}}}}, nil
}
