package view

import (
	"fmt"
	"net/http"
	"net/netip"
	"net/url"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/hosts"
	"orilla.example/orilla/internal/core/names"
)

// How names are shown: a row for each, in which everything that is well is short, and below
// that one paragraph for each thing that is wrong, with the names that share it, what was
// seen, and the record or command that mends it. Who sees "ok" everywhere reads one line.

// DomainReport is a host, its owner, and how visitors find it.
type DomainReport struct {
	Host         string        `json:"host"`
	Owner        string        `json:"owner,omitempty"`
	Entry        int64         `json:"number,omitempty"`
	Who          string        `json:"who,omitempty"`
	When         *time.Time    `json:"when,omitempty"`
	Why          string        `json:"why,omitempty"`
	Grants       []hosts.Grant `json:"grants,omitempty"`
	Environments []string      `json:"environments,omitempty"` // of the site, that have an address there

	State    names.State     `json:"state,omitempty"` // left out where nobody looked
	Uses     []names.Use     `json:"addresses,omitempty"`
	Zone     string          `json:"zone,omitempty"`
	Leads    []LeadReport    `json:"leads_to,omitempty"`
	Servers  []ServerReport  `json:"servers,omitempty"`  // of the zone
	Resolver *ServerReport   `json:"resolver,omitempty"` // of this machine
	HTTP     *LookReport     `json:"http,omitempty"`
	HTTPS    *LookReport     `json:"https,omitempty"`
	Findings []names.Finding `json:"findings,omitempty"`
}

// LeadReport is an address that a name leads to.
type LeadReport struct {
	Address string `json:"address"`
	Edge    bool   `json:"edge"` // an edge node of the store answered the challenge
	Why     string `json:"why,omitempty"`
}

// ServerReport is what a name server answers.
type ServerReport struct {
	Server    string        `json:"server,omitempty"`
	At        string        `json:"at"`
	Outcome   names.Outcome `json:"outcome"`
	Addresses []string      `json:"addresses,omitempty"`
	Via       []string      `json:"via,omitempty"` // CNAME records
	TTL       int64         `json:"ttl,omitempty"` // seconds for which the answer may still be kept
	Why       string        `json:"why,omitempty"`
}

// LookReport is what a name answers over http or https.
type LookReport struct {
	Status      int                `json:"status,omitempty"`
	Location    string             `json:"location,omitempty"`
	Why         string             `json:"why,omitempty"` // why there is no answer
	Certificate *CertificateReport `json:"certificate,omitempty"`
}

// CertificateReport is the certificate that a name showed.
type CertificateReport struct {
	Until  time.Time `json:"until"`
	Issuer string    `json:"issuer"`
	Names  []string  `json:"names"`
	Why    string    `json:"why,omitempty"` // why browsers do not accept it
}

// ReportHost makes the row of a host. Number 0 is a host that nobody has taken.
func ReportHost(entry hosts.Entry) DomainReport {
	report := DomainReport{Host: entry.Host, Owner: entry.Site, Entry: entry.Number, Who: entry.Who,
		Why: entry.Why, Grants: entry.Grants}
	if entry.Number > 0 {
		report.When = &entry.When
	}
	return report
}

// AddSeen adds to the row of a host what was seen of it, and what that means.
func (r *DomainReport) AddSeen(seen names.Seen, verdict names.Verdict) {
	r.State, r.Findings, r.Zone, r.Uses = verdict.State, verdict.Findings, seen.Zone, seen.Host.Uses
	// Where it leads is what the zone's own servers say: what a cache still has is told below,
	// as what it is.
	led := map[netip.Addr]bool{}
	for _, said := range seen.Authoritative {
		for _, ip := range said.Addresses {
			led[ip] = true
		}
	}
	for _, p := range seen.Proofs {
		if led[p.At] {
			r.Leads = append(r.Leads, LeadReport{p.At.String(), p.Proved, p.Why})
		}
	}
	for _, said := range seen.Authoritative {
		r.Servers = append(r.Servers, reportServer(said))
	}
	if seen.Resolver.Outcome != "" {
		resolver := reportServer(seen.Resolver)
		r.Resolver = &resolver
	}
	r.HTTP, r.HTTPS = reportLook(seen.HTTP), reportLook(seen.HTTPS)
}

// reportServer reports what one server says.
func reportServer(said names.Said) ServerReport {
	report := ServerReport{Server: said.Server, At: said.At.String(), Outcome: said.Outcome, Via: said.Via,
		TTL: int64(said.TTL / time.Second), Why: said.Why}
	for _, ip := range said.Addresses {
		report.Addresses = append(report.Addresses, ip.String())
	}
	return report
}

// reportLook reports what http or https answers.
func reportLook(look *names.Look) *LookReport {
	if look == nil {
		return nil
	}
	report := &LookReport{Status: look.Status, Location: look.Location, Why: look.Why}
	if c := look.Certificate; c != nil {
		report.Certificate = &CertificateReport{c.Until.UTC(), c.Issuer, c.Names, c.Why}
	}
	return report
}

// PrintDomains lists the hosts of a site, how visitors find each, and below them what is
// wrong and what mends it.
func PrintDomains(c *console.Console, site string, reports []DomainReport) {
	if len(reports) == 0 {
		c.Note("%s has no addresses yet: add environments.production.addresses to orilla.yaml, then %s",
			site, c.Command("orilla deploy"))
		return
	}
	// Where nobody was asked there is nothing to judge: then it is a list of owners.
	looked := slices.ContainsFunc(reports, func(r DomainReport) bool { return r.State != "" })
	if looked {
		printNames(c, site, reports)
	} else {
		printOwners(c, site, reports)
	}
	printFindings(c, reports)
	if looked {
		printCount(c, reports)
	}
}

// printOwners lists hosts as the store has them.
func printOwners(c *console.Console, site string, reports []DomainReport) {
	rows := [][]string{{"HOST", "OWNER", "SINCE", "USED BY", "SHARED PATHS"}}
	for _, report := range reports {
		since := ""
		if report.When != nil {
			since = c.Age(*report.When)
		}
		rows = append(rows, []string{
			console.Strong(report.Host), ownerText(report, site), since,
			strings.Join(report.Environments, ", "), grantsText(report),
		})
	}
	c.Table(rows)
}

// grantsText lists the paths that other sites have on a host.
func grantsText(report DomainReport) string {
	var grants []string
	for _, grant := range report.Grants {
		grants = append(grants, grant.Path+" "+grant.Site)
	}
	return strings.Join(grants, ", ")
}

// printNames lists hosts as visitors find them. Owners and shared paths have columns where
// there is anything to say: most sites have all of their hosts for themselves.
func printNames(c *console.Console, site string, reports []DomainReport) {
	shared := slices.ContainsFunc(reports, func(r DomainReport) bool { return len(r.Grants) > 0 })
	others := slices.ContainsFunc(reports, func(r DomainReport) bool {
		return r.Owner != site &&
			r.Owner != ""
	})
	header := []string{"", "NAME", "USED BY", "LEADS TO", "HTTP", "HTTPS"}
	if others {
		header = append(header, "OWNER")
	}
	if shared {
		header = append(header, "SHARED PATHS")
	}
	rows := [][]string{header}
	for _, report := range reports {
		row := []string{stateSign(report.State), console.Strong(nameText(report.Host)),
			strings.Join(report.Environments, ", "), leadsText(report), lookText(c, report, report.HTTP),
			lookText(c, report, report.HTTPS)}
		if others {
			row = append(row, ownerText(report, site))
		}
		if shared {
			row = append(row, grantsText(report))
		}
		rows = append(rows, row)
	}
	c.Table(rows)
}

// stateWord is the word that a row begins with.
func stateWord(state names.State) string {
	switch state {
	case names.Good:
		return "ok"
	case names.Warning:
		return "warn"
	case names.Waiting:
		return "wait"
	}
	return string(state)
}

// stateSign is that word in its colour.
func stateSign(state names.State) string {
	word := stateWord(state)
	switch state {
	case names.Good:
		return console.Good(word)
	case names.Warning:
		return console.Warn(word)
	case names.Waiting:
		return console.Accent(word)
	}
	return console.Bad(word)
}

// A name in other letters is shown in both of its forms: people know the one, and forms of
// providers, certificates and logs have the other.

// nameText is a name as people read it, with how DNS has it where that differs.
func nameText(name string) string {
	if text := names.Unicode(name); text != name {
		return text + " (" + name + ")"
	}
	return name
}

// leadsText says where a name leads.
func leadsText(report DomainReport) string {
	const most = 2
	var texts []string
	for i, lead := range report.Leads {
		if i == most {
			texts = append(texts, fmt.Sprintf("%d more", len(report.Leads)-most))
			break
		}
		if lead.Edge {
			texts = append(texts, lead.Address)
		} else {
			texts = append(texts, console.Bad(lead.Address))
		}
	}
	if len(texts) == 0 {
		return console.Faint("nowhere")
	}
	return strings.Join(texts, ", ")
}

// In the columns for http and https: the status, or where a redirect leads, by its host alone
// if that differs, else by its scheme; and of TLS until when the certificate is valid.

// lookText says what a name answers over one protocol, and until when its certificate is
// valid.
func lookText(c *console.Console, report DomainReport, look *LookReport) string {
	if look == nil || len(report.Leads) == 0 {
		return console.Faint("-")
	}
	// A name that only its wildcard has is that of no preview.
	if strings.HasPrefix(report.Host, "*.") && look.Status == http.StatusMisdirectedRequest &&
		look.Certificate == nil {
		return console.Faint("-")
	}
	var text string
	switch {
	case look.Status == 0:
		return console.Faint("no answer")
	case look.Status == http.StatusMisdirectedRequest && strings.HasPrefix(report.Host, "*."):
		text = "TLS"
	case look.Location != "":
		text = "to " + placeText(report.Host, look.Location)
	default:
		text = fmt.Sprint(look.Status)
	}
	switch certificate := look.Certificate; {
	case certificate == nil:
	case certificate.Why != "":
		text += ", " + console.Bad("bad certificate")
	case certificate.Until.Sub(c.Now()) < names.EndsSoon:
		text += ", " + console.Warn("until "+certificate.Until.Format(time.DateOnly))
	default:
		text += console.Faint(", until " + certificate.Until.Format(time.DateOnly))
	}
	return text
}

// placeText is where a redirect leads, as shortly as it is still clear.
func placeText(host, location string) string {
	to, err := url.Parse(location)
	switch {
	case err != nil || to.Host == "":
		return location
	case to.Hostname() == host:
		return to.Scheme
	}
	return to.Hostname()
}

// shared is a finding of one or more hosts.
type shared struct {
	names.Finding

	hosts []string
}

// A site's names are mostly wrong for one reason at a time: all of them lead nowhere before the
// records are set, and all of them wait afterwards. So what is the same is said once, with the
// names in front, the records of all of them, and the time of the one that takes longest.

// printFindings prints what is wrong, or takes its time, and what mends it: once for all
// hosts of which the same is to be said.
func printFindings(c *console.Console, reports []DomainReport) {
	var list []shared
	for _, report := range reports {
		for _, f := range report.Findings {
			at := slices.IndexFunc(list, func(s shared) bool {
				return s.Code == f.Code && s.Text == f.Text && slices.Equal(s.Detail, f.Detail) &&
					s.Next == f.Next
			})
			if at < 0 {
				list = append(list, shared{f, []string{nameText(report.Host)}})
				continue
			}
			s := &list[at]
			s.hosts = append(s.hosts, nameText(report.Host))
			s.Records, s.Remove = slices.Concat(s.Records, f.Records), slices.Concat(s.Remove, f.Remove)
			if s.Until != nil && f.Until != nil && f.Until.After(*s.Until) {
				s.Until = f.Until
			}
		}
	}
	for _, s := range list {
		c.Print("")
		printFinding(c, s)
	}
}

// printFinding prints one of them.
func printFinding(c *console.Console, f shared) {
	const indent = "      "
	c.Print("%s%s%s", stateSign(f.State), strings.Repeat(" ", max(1, len(indent)-len(stateWord(f.State)))),
		console.Strong(strings.Join(f.hosts, ", ")))
	text := f.Text
	if f.Until != nil {
		if left := f.Until.Sub(c.Now()); left > 0 {
			text += ", for " + leftText(left)
		}
	}
	c.Print(indent+"%s", text)
	for _, detail := range f.Detail {
		c.Print(indent+"%s", console.Faint(detail))
	}
	for _, r := range f.Remove {
		c.Print(indent+"%s %s. %s %s", console.Accent("remove:"), r.Name, r.Type, r.Value)
	}
	// Records are lines of a zone file: they can be pasted as they stand.
	note := ""
	for _, r := range f.Records {
		c.Print(indent+"%s %s", console.Accent("set:"), r.Line())
		note = r.Note
	}
	if note != "" {
		c.Print(indent+"%s", console.Faint(note))
	}
	if f.Next != "" {
		c.Print(indent+"%s %s", console.Accent("fix:"), c.Complete(f.Next))
	}
}

// leftText is how long something takes still.
func leftText(left time.Duration) string {
	left = left.Round(time.Second)
	switch minutes, seconds := int(left.Minutes()), int(left.Seconds())%60; {
	case left >= time.Hour:
		return fmt.Sprintf("up to %d h %d min", int(left.Hours()), minutes%60)
	case minutes > 0 && seconds > 0:
		return fmt.Sprintf("up to %d min %d s", minutes, seconds)
	case minutes > 0:
		return fmt.Sprintf("up to %d min", minutes)
	default:
		return fmt.Sprintf("up to %d s", seconds)
	}
}

// printCount says at the end how it is, and what to do next.
func printCount(c *console.Console, reports []DomainReport) {
	count := map[names.State]int64{}
	records := false
	for _, report := range reports {
		count[report.State]++
		for _, f := range report.Findings {
			records = records || len(f.Records) > 0
		}
	}
	c.Print("")
	switch {
	case count[names.Bad] > 0:
		c.Print("%s", console.Bad(console.Count(count[names.Bad], "name needs", "names need")+" a fix"))
		if records {
			c.Note("%s set the records, then %s; all of them: %s", console.Accent("next:"),
				c.Command("orilla domains --wait"), c.Command("orilla domains records"))
		}
	case count[names.Waiting] > 0:
		c.Print("%s", console.Accent(console.Count(count[names.Waiting], "name waits", "names wait")+
			" for name servers and caches; nothing is left to do"))
		c.Note("%s %s", console.Accent("next:"), c.Command("orilla domains --wait"))
	default:
		c.Print("%s", console.Good(console.Count(int64(len(reports)), "name leads", "names lead")+
			" to edge nodes of this store"))
	}
}

// ownerText names the owner of a host, by its colour as
// the site at hand or another one.
func ownerText(report DomainReport, site string) string {
	switch report.Owner {
	case "":
		return console.Faint("no owner yet")
	case site:
		return console.Good(report.Owner)
	}
	return console.Warn(report.Owner)
}
