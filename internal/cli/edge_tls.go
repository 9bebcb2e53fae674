package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"net"
	"strings"
	"time"

	"orilla.example/orilla/internal/certificates"
	"orilla.example/orilla/internal/connections"
	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/httpanswer"
)

// certificatesEvery is how often a node looks whether its certificates were renewed. What
// renews them does so weeks before they expire.
const certificatesEvery = 10 * time.Second

// sourcesOf lists the files of a node's certificates.
func sourcesOf(config project.EdgeConfig) (sources []certificates.Source) {
	for _, c := range config.TLS.Certificates {
		source := certificates.Source{Chain: c.Chain, Key: c.Key}
		if source.Key == "" {
			source.Key = source.Chain
		}
		sources = append(sources, source)
	}
	return sources
}

// loadCertificates reads the certificates of a node; nil without any.
func loadCertificates(config project.EdgeConfig) (*certificates.Set, error) {
	sources := sourcesOf(config)
	if len(sources) == 0 {
		return nil, nil //nolint:nilnil // it does not speak TLS
	}
	set, err := certificates.Load(sources)
	if err != nil {
		return nil, badCertificate(err)
	}
	return set, nil
}

// badCertificate says what is wrong with certificates, and what helps.
func badCertificate(err error) error {
	problem := fault.New(fault.Usage, "bad-certificate", "cannot use the certificate")
	found, ok := errors.AsType[*certificates.FileError](err)
	if !ok {
		return problem.Because(err)
	}
	problem = problem.At("%s", found.File).Because(found.Err)
	switch {
	case errors.Is(err, certificates.ErrNoKey):
		return problem.Then("name the key behind the chain: --certificate CHAIN,KEY")
	case errors.Is(err, certificates.ErrMismatch):
		return problem.Then("name the key that the certificate was made with")
	case errors.Is(err, certificates.ErrNoNames):
		return problem.Then("browsers accept only certificates with a subjectAltName; have one issued")
	case errors.Is(err, fs.ErrPermission):
		return problem.Then("let the user that runs the node read this file")
	}
	return problem
}

// expiry says until when a certificate is valid.
func (a *app) expiry(c certificates.Certificate) string {
	switch left := c.Until.Sub(a.Now()); {
	case left <= 0:
		return console.Bad("expired " + a.Age(c.Until))
	case left < certificates.EndsSoon:
		return console.Warn("expires " + c.Until.Format(time.DateOnly))
	}
	return "until " + c.Until.Format(time.DateOnly)
}

// described is a certificate in one line.
func (a *app) described(c certificates.Certificate) string {
	const most = 3 // of names
	names := c.Names
	if len(names) > most {
		names = append(append([]string(nil), names[:most]...), console.Count(int64(len(names)-most),
			"more name", "more names"))
	}
	return strings.Join(names, ", ") + "  " + a.expiry(c)
}

// listenTLS takes the address for TLS.
func (a *edgeCmd) listenTLS(ctx context.Context, config project.EdgeConfig, set *certificates.Set,
) (net.Listener, error) {
	listener, err := a.listen(ctx, "--tls", config.TLS.Listen)
	if err != nil {
		return nil, err
	}
	return connections.Secure(listener, tlsOf(set, a.issuing)), nil
}

// watchCertificates reads certificates that were renewed, and tells of those that are not.
func (r *running) watchCertificates(ctx context.Context) {
	tell := func(err error) {
		event := httpanswer.Event{Time: time.Now(), Kind: "certificates"}
		if event.Text = "read again"; err != nil {
			event.Kind, event.Text = "trouble", "a certificate stays as it was: "+err.Error()
		}
		r.first.tell(event)
	}
	// At the start, since whoever starts a node reads what it says, and then each day.
	r.tellExpiring()
	day := time.NewTicker(24 * time.Hour)
	defer day.Stop()
	watching := make(chan struct{})
	go func() {
		defer close(watching)
		r.certificates.Watch(ctx, certificatesEvery, tell)
	}()
	for {
		select {
		case <-day.C:
			r.tellExpiring()
		case <-watching:
			return
		}
	}
}

// watchIssued tells each day of certificates that were issued, end soon and are not renewed.
func (r *running) watchIssued(ctx context.Context) {
	day := time.NewTicker(24 * time.Hour)
	defer day.Stop()
	for {
		select {
		case <-day.C:
			r.issuing.tellIssued(r)
		case <-ctx.Done():
			return
		}
	}
}

// tellExpiring tells of certificates that nobody has renewed.
func (r *running) tellExpiring() {
	for _, c := range r.certificates.Ending(time.Now()) {
		r.first.tell(httpanswer.Event{Time: time.Now(), Kind: "trouble",
			Text: "certificate " + c.Source.Chain + " for " + r.described(c)})
	}
}

// alarmsOf says which certificates end and are not renewed, of files and of an authority. What a node
// says of itself anybody may ask: names are in the certificates, and files are not named.
func alarmsOf(set *certificates.Set, issuing *issuing) func() []string {
	return func() (list []string) {
		if set != nil {
			for _, c := range set.Ending(time.Now()) {
				name := c.Names[0]
				if more := len(c.Names) - 1; more > 0 {
					name += " and " + console.Count(int64(more), "more name", "more names")
				}
				list = append(
					list,
					fmt.Sprintf("the certificate of %s %s on %s, and its file is not renewed", name,
						endsOr(c.Until), c.Until.UTC().Format(time.DateOnly)),
				)
			}
		}
		if issuing != nil {
			list = append(list, issuing.alarms()...)
		}
		return list
	}
}

// endsOr is the word for an end that comes, or came.
func endsOr(until time.Time) string {
	if time.Now().After(until) {
		return "ended"
	}
	return "ends"
}

// reloadCertificates reads certificates as a configuration names them now.
func (r *running) reloadCertificates(config project.EdgeConfig) {
	sources := sourcesOf(config)
	if r.certificates == nil || len(sources) == 0 {
		return // speaking TLS or not takes a restart
	}
	if _, err := r.certificates.Reload(sources); err != nil {
		r.fails(badCertificate(err), "this certificate stays as it was")
	}
}
