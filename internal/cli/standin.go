package cli

import (
	"context"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"os"
	"strings"
	"time"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/nameservers"
	"orilla.example/orilla/internal/standin/nameserver"
)

// Stand-ins are parts of the program, so that everything about names can be tried, shown and
// tested where there is no network, and no account with anybody. Each says at its start what
// it is, and listens on this machine only unless told otherwise.

// standInCmd runs small stand-ins for services that a site needs, to try things without
// them and without a network.
type standInCmd struct{ *app }

func newStandInCommand(a *app) *cobra.Command {
	c := &standInCmd{app: a}
	cmd := &cobra.Command{
		Use: "stand-in", Short: "Run a small stand-in for a service, to try things out",
		Long: "Stand-ins answer like the services that a site needs, on this machine and without a " +
			"network. They are for trying things out, not for visitors.",
		Example: "orilla stand-in dns\norilla stand-in acme\norilla stand-in mail",
		Args:    cobra.NoArgs,
	}
	inOrder(cmd, newStandInDNSCommand(c), newStandInACMECommand(c), newStandInMailCommand(c),
		newStandInWebhookCommand(c), newStandInBrowserCommand(c))
	return cmd
}

// dnsOptions are what the name server takes.
type dnsOptions struct{ listen, delay, key string }

// usualDNS is where the name server listens.
const usualDNS = "127.0.0.1:7453"

func newStandInDNSCommand(c *standInCmd) *cobra.Command {
	var o dnsOptions
	cmd := &cobra.Command{
		Use: "dns [ZONE-FILE...]", Short: "Run a name server and a resolver",
		Long: "The name server answers for the zones in the files (default: corvane.example), takes " +
			"dynamic updates signed with the key, and resolves its own names for those who ask for " +
			"recursion, keeping answers for as long as they may be kept. A second server at " +
			"[::1] lags behind by --delay.",
		Example: "orilla stand-in dns --delay 30s --key orilla.key\n" +
			"orilla domains --resolver " + usualDNS,
		RunE: func(cmd *cobra.Command, args []string) error { return c.dns(cmd.Context(), args, o) },
	}
	cmd.Flags().StringVar(&o.listen, "listen", usualDNS, "the `ADDRESS` to answer on, over UDP and TCP")
	cmd.Flags().StringVar(&o.delay, "delay", "0s", "how far the second server lags behind: `TIME`")
	cmd.Flags().StringVar(&o.key, "key", "",
		"let this TSIG key change the zones: `FILE`, made if it is not there")
	return cmd
}

// standInZone is the zone of those who bring none.
const standInZone = `$ORIGIN corvane.example.
@    300 IN SOA ns1 hostmaster 1 7200 900 1209600 300
@    300 IN NS  ns1
ns1  300 IN A   %s
`

// secondServer is what the zone has besides if there is a second server.
const secondServer = "@ 300 IN NS ns2\nns2 300 IN AAAA ::1\n"

// The second server is there to be late: with --delay one sees what visitors see while a change
// is on its way, and what orilla domains says of it. It needs a second address of this machine,
// and ::1 is one that most machines have.

// dns runs the name server until it is interrupted.
func (a *standInCmd) dns(ctx context.Context, files []string, o dnsOptions) error {
	delay, err := project.ParseDuration(o.delay)
	if err != nil {
		return fault.New(fault.Usage, "usage", "--delay: %s", err)
	}
	host, _, err := net.SplitHostPort(o.listen)
	if err != nil || net.ParseIP(host) == nil {
		return fault.New(fault.Usage, "usage", "--listen %s: not an address with a port", o.listen).
			Then("write one such as %s", usualDNS)
	}
	// What is changed is printed as it happens: it is half of what one wants to see.
	server := &nameserver.Server{Delay: time.Duration(delay), Tell: func(text string) {
		a.Print("%s  %s", console.Faint(time.Now().Format(time.TimeOnly)), text)
	}}
	if o.key != "" {
		key, err := a.standInKey(a.path(o.key))
		if err != nil {
			return err
		}
		server.Keys = []nameservers.Key{key}
	}
	at, err := server.Listen(ctx, o.listen, false)
	if err != nil {
		return fault.New(fault.Failed, "address-taken", "cannot listen there").At("%s", o.listen).Because(
			err).
			Then("use a free port: --listen 127.0.0.1:0")
	}
	// Without IPv6 there is one server only.
	_, port, _ := net.SplitHostPort(at)
	second, err := server.Listen(ctx, net.JoinHostPort("::1", port), true)
	if err != nil {
		second = ""
	}
	if server.Zones, err = a.standInZones(files, host, second != ""); err != nil {
		return err
	}

	a.Note("%s %s", console.Strong("stand-in name server at"), console.Accent(at)+
		console.Faint("  not for visitors: it is known on this machine only"))
	for _, zone := range server.Zones {
		a.Note("zone %s", console.Strong(strings.TrimSuffix(zone.Origin, ".")))
	}
	if second != "" {
		a.Note("%s", console.Faint(fmt.Sprintf("a second server at %s lags behind by %s", second,
			console.Took(time.Duration(delay)))))
	}
	a.Note("%s %s", console.Accent("next:"), a.Command("orilla domains --resolver "+at))
	return server.Serve(ctx)
}

// standInKey reads the key, or makes one.
func (a *standInCmd) standInKey(file string) (nameservers.Key, error) {
	data, err := os.ReadFile(file)
	// A key that is made here is as good as any: the stand-in is the only server that knows it.
	if errors.Is(err, fs.ErrNotExist) {
		const bytes = 32 // of a secret for SHA-256
		secret := make([]byte, bytes)
		rand.Read(secret)
		key := nameservers.Key{Name: "orilla-stand-in", Algorithm: "hmac-sha256",
			Secret: base64.StdEncoding.EncodeToString(secret)}
		if err := os.WriteFile(file, []byte(key.String()), 0o600); err != nil {
			return key, fault.New(fault.Failed, "key", "cannot write the key").At("%s", file).Because(err)
		}
		a.Note("made the key %s", file)
		return key, nil
	}
	if err != nil {
		return nameservers.Key{}, fault.New(fault.Usage, "no-key", "cannot read the key").At("%s",
			file).Because(err)
	}
	key, err := nameservers.ParseKey(data)
	if err != nil {
		return key, fault.New(fault.Usage, "bad-key", "%s", err).At("%s", file)
	}
	return key, nil
}

// standInZones reads zone files, or takes the usual zone.
func (a *standInCmd) standInZones(files []string, host string, second bool) (zones []*nameserver.Zone,
	err error) {
	for _, file := range files {
		data, err := os.ReadFile(a.path(file))
		if err != nil {
			return nil, fault.New(fault.Usage, "no-zone", "cannot read the zone").At("%s", file).Because(err)
		}
		zone, err := nameserver.ReadZone(string(data), file, time.Now())
		if err != nil {
			return nil, fault.New(fault.Usage, "bad-zone", "cannot read the zone").At("%s", file).Because(err)
		}
		zones = append(zones, zone)
	}
	if len(files) > 0 {
		return zones, nil
	}
	// The servers of the zone are where the stand-in listens, whatever that is.
	text := fmt.Sprintf(standInZone, host)
	if strings.Contains(host, ":") {
		text = strings.Replace(text, "IN A ", "IN AAAA ", 1)
	}
	if second {
		text += secondServer
	}
	zone, err := nameserver.ReadZone(text, "corvane.example", time.Now())
	return []*nameserver.Zone{zone}, err
}
