package names

import (
	"cmp"
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"
)

// State is how it is with a host.
type State string

// The states, from the best to the worst.
const (
	Good    State = "good"    // visitors find it
	Warning State = "warning" // they do, and something will go wrong or could be better
	Waiting State = "waiting" // it will be good by itself
	Bad     State = "bad"     // visitors do not find it, or find something else
)

// worse orders states.
func (s State) worse(other State) bool {
	order := []State{Good, Warning, Waiting, Bad}
	return slices.Index(order, s) > slices.Index(order, other)
}

// Finding is one thing that is wrong with a host, or that takes its time.
type Finding struct {
	Code    string   `json:"code"` // stable, such as leads-elsewhere
	State   State    `json:"state"`
	Text    string   `json:"text"`
	Detail  []string `json:"detail,omitempty"`
	Records []Need   `json:"records,omitempty"` // that mend it
	Remove  []Record `json:"remove,omitempty"`  // that are to go
	Next    string   `json:"next,omitempty"`    // what to do besides
	// Until is when caches that keep the old answer give it up.
	Until *time.Time `json:"until,omitempty"`
}

// Verdict is what is to be said of a host.
type Verdict struct {
	State    State
	Findings []Finding
}

// EndsSoon is how long before its end a certificate is worth a word.
const EndsSoon = 14 * 24 * time.Hour

// Case is what a host is judged by.
type Case struct {
	Seen
	Needs []Need // the records of the host, if it is known where edge nodes are
	// Issuer is the authority that nodes order certificates from; "": what they say themselves.
	Issuer string
	Now    time.Time // by which things expire
}

// What hides what, from the outside in. The first that is bad ends the walk, since what lies
// behind it cannot be seen, or would be wrong for the same reason:
//
//	zone      is there a zone with this name?
//	servers   does any of its servers answer?
//	place     does any of them lead to an edge node of the store?
//	waiting   do all of them, and do caches know it?
//	pages     does each page have one address, and a certificate that browsers accept?
//
// Whether a certificate may be issued, and whether signatures hold, is told in any case:
// both can be mended meanwhile.

// judge gathers findings.
type judge struct {
	Case
	verdict Verdict
}

// Judge says what keeps visitors from finding a host, what will change by itself, and what
// mends the rest. What hides other things comes first, and those are left out then.
func Judge(c Case) Verdict {
	j := &judge{Case: c, verdict: Verdict{State: Good}}
	if j.zone() && j.servers() && j.place() {
		j.waiting()
		j.pages()
	}
	j.authorities()
	return j.verdict
}

// say adds a finding.
func (j *judge) say(f Finding) {
	j.verdict.Findings = append(j.verdict.Findings, f)
	if f.State.worse(j.verdict.State) {
		j.verdict.State = f.State
	}
}

// zone tells of a name that is in no zone, and reports whether to go on.
func (j *judge) zone() bool {
	switch {
	case j.Zone != "":
		return true
	case j.ZoneWhy != "":
		j.say(Finding{Code: "no-resolver", State: Warning, Text: "cannot ask: " + j.ZoneWhy,
			Next: "check the network, or name another resolver with --resolver"})
	default:
		// Only that nobody has the name is known, not why: it may have been given up.
		j.say(Finding{Code: "no-zone", State: Bad,
			Text: "no name server has this name",
			Next: "register the domain, and have the registry name its servers"})
	}
	return false
}

// servers tells of name servers that do not answer, and reports whether any does.
func (j *judge) servers() bool {
	var silent, details []string
	// A name server that leads round in circles has answered: that is told as what it is.
	heard := false
	for _, said := range j.Authoritative {
		if said.heard() || said.Outcome == Looping {
			heard = true
			continue
		}
		silent = append(silent, said.Server)
		details = append(details, fmt.Sprintf("%s (%s) %s", said.Server, said.At.Addr(), said.problem()))
	}
	switch {
	case len(j.Authoritative) == 0:
		j.say(Finding{Code: "servers-silent", State: Bad,
			Text: "the name servers of " + j.Zone + " have no address",
			Next: "have the registry name servers that exist"})
	case !heard:
		j.say(Finding{Code: "servers-silent", State: Bad,
			Text: "no name server of " + j.Zone + " answers", Detail: details,
			Next: "contact their operator"})
	case len(silent) > 0:
		j.say(Finding{Code: "server-silent", State: Warning,
			Text:   "not every name server of " + j.Zone + " answers: some visitors wait, or find nothing",
			Detail: details, Next: "contact their operator"})
	}
	return heard
}

// problem says how a server failed.
func (s Said) problem() string {
	switch s.Outcome {
	case Refused:
		return "does not answer for this zone (" + s.Why + ")"
	case Failed:
		return "fails (" + s.Why + ")"
	case Garbled:
		return "answers what nobody can read"
	}
	return "does not answer"
}

// place tells where the host leads, if that is not an edge node, and reports whether any
// server leads to one.
func (j *judge) place() bool {
	// One server that leads to a node is enough to go on: the others may be about to.
	good, none := false, true
	var loop []string
	for _, said := range j.Authoritative {
		good = good || j.leadsToEdge(said)
		none = none && said.Outcome != Answers
		if said.Outcome == Looping {
			loop = said.Via
		}
	}
	switch {
	case good:
		return true
	case loop != nil:
		j.say(Finding{Code: "cname-loop", State: Bad, Text: "leads round in circles",
			Detail: []string{strings.Join(append([]string{j.Name}, loop...), " -> ")}, Records: j.leading()})
	case none && j.Host.IsWildcard():
		j.say(Finding{Code: "no-wildcard", State: Bad,
			Text:    "leads nowhere: no preview opens",
			Records: j.leading(), Next: j.where()})
	case none:
		j.say(Finding{Code: "leads-nowhere", State: Bad, Text: "leads nowhere",
			Records: j.leading(), Next: j.where()})
	default:
		j.elsewhere()
	}
	return false
}

// where says what to do when it is not known where edge nodes are.
func (j *judge) where() string {
	if len(j.leading()) > 0 {
		return ""
	}
	return "say in orilla.yaml where the edge nodes are: edge_addresses: [192.0.2.10]"
}

// leading are the records that lead visitors to edge nodes.
func (j *judge) leading() (list []Need) {
	for _, need := range j.Needs {
		if leads(need.Type) && need.Name == j.Host.Name {
			list = append(list, need)
		}
	}
	return list
}

// elsewhere tells of addresses at which no edge node of the store answered.
func (j *judge) elsewhere() {
	var details []string
	var remove []Record
	for _, ip := range j.Place() {
		p := j.proof(ip)
		if p.Proved {
			continue
		}
		details = append(details, ip.String()+": "+p.Why)
		// A record that is needed is right even if nothing answers there at the moment.
		if old := (Record{Name: j.Host.Name, Type: typeOf(ip), Value: ip.String()}); !j.isNeeded(old) {
			remove = append(remove, old)
		}
	}
	text := fmt.Sprintf("leads to %s, which is no edge node of this store", list(j.unproved()))
	if len(j.unproved()) > 1 {
		text = fmt.Sprintf("leads to %s, which are no edge nodes of this store", list(j.unproved()))
	}
	next := j.where()
	if next == "" && len(remove) == 0 {
		// The records are right; the nodes are not there.
		next = "start an edge node of this store there, or let its port through: orilla edge"
	}
	j.say(Finding{Code: "leads-elsewhere", State: Bad, Text: text, Detail: details,
		Records: j.missing(), Remove: remove, Next: next})
}

// isNeeded reports whether the host needs a record.
func (j *judge) isNeeded(r Record) bool {
	return slices.ContainsFunc(j.Needs, func(n Need) bool { return n.Is(r) })
}

// missing are the leading records that the host's servers do not answer with.
func (j *judge) missing() (list []Need) {
	for _, need := range j.leading() {
		ip, err := netip.ParseAddr(need.Value)
		if err != nil || !slices.Contains(j.Place(), ip) {
			list = append(list, need)
		}
	}
	return list
}

// unproved are the addresses at which no edge node answered, with a word for those that
// nobody outside can reach.
func (j *judge) unproved() (texts []string) {
	for _, ip := range j.Place() {
		if j.proof(ip).Proved {
			continue
		}
		text := ip.String()
		if ip.IsPrivate() || ip.IsLoopback() || ip.IsLinkLocalUnicast() || ip.IsUnspecified() {
			text += " (reachable from its own network only)"
		}
		texts = append(texts, text)
	}
	return texts
}

// list joins words.
func list(words []string) string {
	if len(words) < 2 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:len(words)-1], ", ") + " and " + words[len(words)-1]
}

// waiting tells which servers still answer what was, and until when it may be kept.
func (j *judge) waiting() {
	var fresh Said
	var behind []string
	var longest time.Duration
	for _, said := range j.Authoritative {
		switch {
		case j.leadsToEdge(said):
			fresh = said
		case said.heard():
			behind = append(behind, fmt.Sprintf("%s still answers %s", said.Server, said.answer()))
			longest = max(longest, said.TTL)
		}
	}
	if len(behind) > 0 {
		// What one of the servers still says is kept from now on at the latest.
		until := j.Now.Add(longest)
		j.say(Finding{Code: "servers-differ", State: Waiting, Until: &until,
			Text: "not all name servers of " + j.Zone + " have the new record yet",
			Detail: append([]string{fmt.Sprintf("%s answers %s", fresh.Server, fresh.answer())},
				behind...)})
		return
	}
	if j.Resolver.sameAs(fresh) || j.leadsToEdge(j.Resolver) {
		return
	}
	if !j.Resolver.heard() {
		j.say(Finding{Code: "resolver-fails", State: Warning,
			Text: "this machine's resolver (" + j.Resolver.At.String() + ") " + j.Resolver.problem()})
		return
	}
	until := j.Now.Add(j.Resolver.TTL)
	j.say(Finding{Code: "cached", State: Waiting, Until: &until,
		Text: "all name servers have the new record; caches may keep the old one",
		Detail: []string{"the resolver of this machine (" + j.Resolver.At.Addr().String() + ") answers " +
			j.Resolver.answer()}})
}

// answer is what a server answers, in words.
func (s Said) answer() string {
	if s.Outcome != Answers {
		return "that there is no address"
	}
	var texts []string
	for _, ip := range s.Addresses {
		texts = append(texts, ip.String())
	}
	return list(texts)
}

// pages tells of what http and https answer.
func (j *judge) pages() {
	// Nobody misses a certificate at an address that begins with http.
	secure := slices.ContainsFunc(j.Host.Uses, func(u Use) bool {
		return strings.HasPrefix(u.Address,
			"https:")
	})
	if secure && j.HTTPS != nil {
		j.certificate()
	}
	for _, ip := range j.Place() {
		if p := j.proof(ip); p.Proved && !p.Secure && secure && j.HTTPS != nil && j.HTTPS.Status != 0 {
			j.say(Finding{Code: "proxy-not-trusted", State: Warning,
				Text: "https://" + j.Name +
					" is answered by a proxy that the edge node does not trust: it takes " +
					"visitors for ones without TLS",
				Next: "trust the proxy's addresses: orilla edge --trust NETWORK"})
			break
		}
	}
	for _, look := range []struct {
		*Look
		scheme string
	}{{j.HTTP, "http"}, {j.HTTPS, "https"}} {
		if look.Look == nil || look.Status == 0 {
			continue
		}
		// An edge node has proved itself there, and this is what it says of hosts that no site has.
		if look.Status == http.StatusMisdirectedRequest {
			state := Bad
			if j.Host.IsWildcard() {
				state = Warning // nobody misses a preview that is not there
			}
			j.say(Finding{Code: "no-site", State: state,
				Text: "leads to an edge node, which knows no site at " + j.Name,
				Next: "orilla domains reserve"})
			return
		}
		j.oneAddress(look.scheme, *look.Look)
	}
}

// certificate tells of a certificate that is not good, or ends.
func (j *judge) certificate() {
	switch c := j.HTTPS.Certificate; {
	case c == nil && slices.ContainsFunc(j.Proofs, func(p Proof) bool { return p.Proved && p.Orders }):
		j.say(Finding{Code: "certificate-ordered", State: Waiting,
			Text:   "an edge node orders its certificate: that takes a minute, if nothing forbids it",
			Detail: []string{"if it takes longer, the node's log says why"}})
	case c == nil:
		j.say(Finding{Code: "no-https", State: Bad, Text: "nothing answers https://" + j.Name + ": " +
			j.HTTPS.Why,
			Next: "give the edge node a certificate, or put a server in front that has one: " +
				"orilla help edge-nodes"})
	case c.Why != "":
		j.say(Finding{Code: "bad-certificate", State: Bad,
			Text: "browsers do not accept the certificate of https://" + j.Name + ": " + c.Why,
			Next: "give the edge node a certificate for " + j.Host.Name})
	case c.Until.Sub(j.Now) < EndsSoon:
		j.say(Finding{Code: "certificate-ends", State: Warning,
			Text: "its certificate ends on " + c.Until.UTC().Format(time.DateOnly),
			Next: "renew it"})
	}
}

// oneAddress tells of a page that has two addresses.
func (j *judge) oneAddress(scheme string, look Look) {
	// Statuses of errors say nothing of addresses: there may be no such page.
	redirects := look.Status >= 300 && look.Status < 400 && look.Location != ""
	for _, use := range j.Host.Uses {
		want, err := url.Parse(use.Address)
		if err != nil || strings.Contains(use.Address, "{") {
			continue
		}
		switch {
		case use.To != "" && !redirects && look.Status < 400:
			j.say(Finding{Code: "two-addresses", State: Bad,
				Text: fmt.Sprintf("%s://%s answers pages itself; it should lead to %s", scheme, j.Name,
					use.To),
				Next: "deploy again: orilla deploy --to " + use.Environment})
		case use.To == "" && scheme == "http" && want.Scheme == "https" && !redirects && look.Status < 400:
			j.say(Finding{Code: "plain-http", State: Warning,
				Text: "http://" + j.Name + " answers pages without TLS; it should lead to " + use.Address})
		}
		return // the first use decides what is at the root of the host
	}
}

// authorities tells of what keeps a certificate from being issued, or a name from being
// resolved where signatures are checked.
func (j *judge) authorities() {
	if j.Signed.Why != "" {
		j.say(Finding{Code: "dnssec", State: Bad,
			Text:   "resolvers that check signatures (DNSSEC) refuse " + j.Zone,
			Detail: []string{j.Signed.Why},
			Next:   "have the zone signed anew, or its DS record removed by the registrar"})
	}
	for _, p := range j.Proofs {
		j.Issuer = cmp.Or(j.Issuer, p.Issuer)
	}
	if j.Issuer != "" && Forbids(j.CAA, j.Issuer, j.Host.IsWildcard()) {
		property := "issue"
		if j.Host.IsWildcard() {
			property = "issuewild"
		}
		var details []string
		for _, r := range j.CAA {
			details = append(details, r.Line())
		}
		j.say(Finding{Code: "caa", State: Bad,
			Text: "CAA records at " + j.CAAName + " forbid " + j.Issuer +
				" to issue a certificate for " + j.Host.Name,
			Detail: details,
			Records: []Need{{Record: Record{j.CAAName, "CAA", DefaultTTL, fmt.Sprintf("0 %s %q", property,
				j.Issuer)}, Zone: j.Zone}}})
	}
}
