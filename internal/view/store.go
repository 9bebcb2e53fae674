package view

import (
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/maintenance"
	"orilla.example/orilla/internal/core/pins"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/source"
)

// RemoveSiteReport is the JSON document of orilla remove-site.
type RemoveSiteReport struct {
	Site     string `json:"site"`
	Removed  int    `json:"removed"` // records
	KeptName bool   `json:"kept_name,omitempty"`
	// of a dry run: the environments that would go offline; Removed then counts
	// releases
	Live   []string `json:"live,omitempty"`
	DryRun bool     `json:"dry_run,omitempty"`
	// Names are hosts of the site whose DNS records stay, and lead to edge nodes that answer
	// nothing there any more.
	Names []string `json:"names,omitempty"`
}

// StoreRemovedReport says what was removed of a store.
type StoreRemovedReport struct {
	Store   string `json:"store"`
	Removed int    `json:"removed"` // keys
}

// printDuties says for which roles the rights are enough.
func printDuties(c *console.Console, duties []maintenance.Duty) {
	does := map[storage.Role]string{storage.Deployer: "deploy", storage.Edge: "serve",
		storage.Pruner: "prune"}
	var enough []string
	for _, duty := range duties {
		if duty.Can {
			enough = append(enough, does[duty.Role])
		}
	}

	if len(enough) > 0 {
		c.Row(c.Out, "enough to", console.Good(strings.Join(enough, ", ")))
	}
	for _, duty := range duties {
		if !duty.Can {
			c.Row(c.Out, "", console.Faint("not to "+does[duty.Role]+": missing permission to "+
				strings.Join(duty.Lacks, ", ")))
		}
	}
}

// PrintStore writes what a store is and can do. What an engine lacks is named
// with what follows from it.
func PrintStore(c *console.Console, report StoreReport) {
	c.Row(c.Out, "store", console.Strong(report.Place))
	if report.Account != "" {
		c.Row(c.Out, "as", report.Account)
	}
	c.Row(c.Out, "answers", "in "+console.Took(time.Duration(report.Answers)*time.Millisecond))
	var has, lacks []string
	for _, right := range report.Rights {
		if right.Has {
			has = append(has, right.Name)
		} else {
			lacks = append(lacks, right.Name)
		}
	}

	c.Row(c.Out, "may", console.Good(strings.Join(has, ", ")))
	if len(lacks) > 0 {
		c.Row(c.Out, "may not", console.Warn(strings.Join(lacks, ", ")))
		for _, right := range report.Rights {
			if right.Why != "" {
				c.Row(c.Out, "", console.Faint(right.Name+": "+right.Why))
			}
		}
	}

	printDuties(c, report.Roles)
	if report.Strangers != nil {
		text := console.Good("not readable without credentials")
		if *report.Strangers {
			text = console.Bad("anyone can read it without credentials, even password-protected " +
				"sites: disable public access")
		}
		c.Row(c.Out, "public", text)
	}

	for _, advice := range report.Advice {
		c.Row(c.Out, "look", console.Warn(advice))
	}
	c.Row(c.Out, "holds", console.Count(report.Holdings.Objects, "object", "objects")+", "+
		console.Size(report.Holdings.Bytes))

	for i, site := range report.Sites {
		c.Row(c.Out, console.Label("sites", i), fmt.Sprintf("%s  %s in %s", console.Strong(site.Site),
			console.Count(int64(site.Releases), "release", "releases"),
			console.Count(int64(site.Environments), "environment", "environments")))
	}

	if len(report.Sites) == 0 {
		c.Row(c.Out, "sites", "none yet; orilla deploy creates the first")
	}
}

// StoreReport is what store prints with --json.
type StoreReport struct {
	Store   string              `json:"store"`
	Place   string              `json:"place"`
	Account string              `json:"account,omitempty"`
	ID      string              `json:"id,omitempty"`
	Answers int64               `json:"answers_in"` // milliseconds
	Rights  []maintenance.Right `json:"rights"`
	// of a store that tells for each key who may write it
	Roles     []maintenance.Duty   `json:"roles,omitempty"`
	Strangers *bool                `json:"strangers_can_read,omitempty"` // unset where that means nothing
	Advice    []string             `json:"advice,omitempty"`
	Holdings  maintenance.Holdings `json:"holdings"`
	Sites     []StoreSite          `json:"sites"`
}

// StoreSite is one site in it.
type StoreSite struct {
	Site         string `json:"site"`
	Releases     int    `json:"releases"`
	Environments int    `json:"environments"`
	Damage       string `json:"damage,omitempty"`
}

// ListPolicies writes the rights of each role in the spelling of the store,
// ready to be pasted.
func ListPolicies(c *console.Console, all map[string]string) {
	for _, role := range append(storage.Roles, "bucket") {
		if all[string(role)] == "" {
			continue
		}
		c.Print("%s\n%s", console.Faint("# "+rightsOf(role)), all[string(role)])
	}
}

// rightsOf is the heading of a role's policy.
func rightsOf(role storage.Role) string {
	switch role {
	case storage.Deployer:
		return "rights of a deployer"
	case storage.Edge:
		return "rights of an edge node"
	case storage.Pruner:
		return "rights for pruning"
	}
	return "bucket policy"
}

// FolderRights says what a role needs in a folder, where
// rights are given for folders.
func FolderRights(role storage.Role, site string) string {
	var writes []string
	for _, kind := range storage.Kinds {
		folder, _, _ := strings.Cut(kind.Pattern, "/")
		if site != "" && kind.OfSite() {
			folder, _, _ = strings.Cut(strings.ReplaceAll(kind.Pattern, "SITE", site), "/*")
			if strings.HasPrefix(kind.Pattern, storage.SitesKey) {
				folder = storage.SiteKey(site)
			}
		}

		if folder != kind.Pattern {
			folder += "/"
		}
		if (kind.Writes(role) || kind.Deletes(role)) && !slices.Contains(writes, folder) {
			writes = append(writes, folder)
		}
	}

	return "read in the whole folder, as a user of its own (over SSH: Match User, ForceCommand " +
		"internal-sftp, no forwarding);\nwrite in tmp/ " + strings.Join(writes, " ")
}

// StoreInitReport is the JSON document of orilla store init.
type StoreInitReport struct {
	Store    string            `json:"store"`
	Place    string            `json:"place"`
	Account  string            `json:"account,omitempty"`
	ID       string            `json:"id"`
	Made     bool              `json:"made"` // not there before
	Advice   []string          `json:"advice,omitempty"`
	Policies map[string]string `json:"policies,omitempty"` // by role
}

// PrintPruned writes what was removed, or with would what a removal would
// remove.
func PrintPruned(c *console.Console, p maintenance.Pruned, would string) {
	var days []string
	if p.TrafficDays > 0 {
		days = append(days, console.Count(int64(p.TrafficDays), "day becomes one record",
			"days become a record each"))
	}
	if p.TrafficGone > 0 {
		days = append(days, console.Count(int64(p.TrafficGone), "day is", "days are")+
			" too old, or of no site, and "+would)
	}
	if len(days) > 0 {
		c.Print("%s %s", console.Strong("counts of visits:"), strings.Join(days, ", "))
	}
	if p.Pictures > 0 {
		c.Print("%s %s %s", console.Strong("pictures of pages:"),
			console.Count(int64(p.Pictures), "record or image", "records and images"), would)
	}
	if len(p.Releases)+p.Builds+p.Objects+p.Variants == 0 {
		c.Print("%s: %s kept, nothing unused", console.Good("nothing to remove"),
			console.Count(int64(p.Kept), "release is", "releases are"))
		return
	}

	rows := [][]string{{"RELEASE", "SITE", "MADE"}}
	for i, gone := range p.Releases {
		if i == 20 {
			rows = append(rows, []string{fmt.Sprintf("and %d more", len(p.Releases)-i), "", ""})
			break
		}
		rows = append(rows, []string{gone.ID.Short(), gone.Site, c.Age(gone.Made)})
	}

	if len(rows) > 1 {
		c.Table(rows)
	}
	objects := console.Count(int64(p.Objects), "object", "objects")
	if p.Variants > 0 {
		objects += ", " + console.Count(int64(p.Variants), "encoded copy", "encoded copies")
	}
	c.Print("%s %s: %s, %s, %s; %s kept", console.Strong(console.Size(p.Bytes)), would,
		console.Count(int64(len(p.Releases)), "release", "releases"),
		console.Count(int64(p.Builds), "build record", "build records"), objects,
		console.Count(int64(p.Kept), "release is", "releases are"))
}

// Unprunable puts into words why nothing could be removed. A store that is
// damaged is not pruned: what is reachable cannot be known.
func Unprunable(store storage.Store, err error) error {
	switch {
	case errors.Is(err, maintenance.ErrBusy):
		return fault.New(fault.Refused, "busy", "another prune is running in this store").
			At("%s", store.Address()).Because(err).
			Then("run it again after that; a killed prune counts for eleven minutes")
	case errors.Is(err, release.ErrDamaged), errors.Is(err, journal.ErrDamaged), errors.Is(err,
		storage.ErrNotFound):
		return fault.New(fault.Refused, "damaged",
			"the store is damaged, so Orilla cannot tell what is still needed; nothing removed").
			At("%s", store.Address()).Because(err).
			Then("to see the damage: orilla store verify").
			Then("to repair it from a copy: orilla store verify --repair-from STORE")
	}
	return err
}

// ShowWaiting tells for whom a removal waits.
func ShowWaiting(c *console.Console, list []pins.Waiting) {
	for _, w := range list {
		c.Note("%s waiting for the %s of %s by %s, begun %s; it counts until %s", console.Faint("..."),
			w.What, w.Site, source.PersonName(w.Who), c.Age(w.Since),
			w.Modified.Add(pins.Lease).Local().Format("15:04"))
	}
}

// PruneReport is what store prune prints with --json.
type PruneReport struct {
	maintenance.Pruned
	DryRun bool `json:"dry_run,omitempty"`
}

// NewPruneReport makes the report of a prune, or of what one would do.
func NewPruneReport(p maintenance.Pruned, dryRun bool) PruneReport {
	p.Releases = append([]maintenance.GoneRelease{}, p.Releases...) // an empty list, and not null
	return PruneReport{p, dryRun}
}

// PrintVerified writes what is damaged, and what depends on it, live things
// first.
func PrintVerified(c *console.Console, found maintenance.Verified, took time.Duration, from string) {
	left, copies := 0, 0
	for _, damage := range found.Damage {
		if _, _, isCopy := coding.FromKey(damage.Key); isCopy && !damage.Repaired {
			copies++
		}
		state := console.Bad("damaged")
		switch {
		case damage.Repaired:
			state = console.Good("repaired")
		default:
			left++
		}

		c.Print("%s %s: %s", state, damage.Key, damage.What)
		for _, affected := range damage.Affects {
			c.Print("         %s %s", console.Faint("affects"), affected)
		}
		if damage.Remains != "" {
			c.Print("         %s", damage.Remains)
		}
	}

	gone := ""
	if found.Gone > 0 {
		gone = "; " + console.Count(int64(found.Gone), "entry names a release that was",
			"entries name releases that were") + " pruned"
	}

	objects := console.Count(found.Objects, "object", "objects")
	if found.Variants > 0 {
		objects += " and " + console.Count(found.Variants, "encoded copy", "encoded copies")
	}
	c.Print("%s, %s, %s; %s (%s) read in %s%s", console.Count(int64(found.Sites), "site", "sites"),
		console.Count(int64(found.Releases), "release", "releases"),
		console.Count(int64(found.Entries), "entry", "entries"), objects,
		console.Size(found.Bytes), console.Took(took), gone)
	switch {
	case left > 0:
		c.Print("%s", console.Bad(console.Count(int64(left), "object is", "objects are")+" damaged"))
		switch {
		case left == copies:
			c.Hint("next:", "nothing; no content is lost, and edge nodes make these copies anew")
		case from == "":
			c.Hint("next:", "roll back to an unaffected release, or repair from a copy: "+
				"orilla store verify --repair-from STORE")
		}
	case len(found.Damage) > 0:
		c.Print("%s", console.Good("all damage repaired"))
	default:
		c.Print("%s", console.Good("everything is intact"))
	}
}

// PrintRemoved tells what a prune removed, and what it left.
func PrintRemoved(c *console.Console, done maintenance.Pruned) {
	c.Print("%s: %s, %s, %s; %s freed", console.Good("removed"),
		console.Count(int64(len(done.Releases)), "release", "releases"),
		console.Count(int64(done.Builds), "build record", "build records"),
		console.Count(int64(done.Objects), "object", "objects"), console.Size(done.Bytes))
	if done.Spared > 0 {
		c.Note("%s", console.Faint(console.Count(int64(done.Spared), "object was", "objects were")+
			" needed again meanwhile and kept"))
	}

	if done.Left > 0 {
		c.Note("%s %d are left because time ran out: run it again", console.Warn("note:"), done.Left)
	}
}
