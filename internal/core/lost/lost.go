// Package lost finds where visitors should have been led who asked for what is not there: a page
// that moved, a name that was spelled otherwise, an ending that went.
//
//	/fares.html        41  redirect /fares.html -> /fares/         it ended otherwise
//	/ships/kraken/     12  redirect /ships/kraken/ -> /boats/kraken/   it moved after production:12
//	/wp-login.php     900                                          nobody leads there
//
// What is proposed answers in the release that is live, and is read back by the parser of rules.
// Nothing is proposed that is only a guess at what a stranger tried.
package lost

import (
	"cmp"
	"context"
	"encoding/csv"
	"fmt"
	"iter"
	"net/http"
	"path"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/difference"
	"orilla.example/orilla/internal/core/media"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/core/spelling"
	"orilla.example/orilla/internal/core/traffic"
)

// Address is one that visitors asked for and did not get.
type Address struct {
	Path     string `json:"path"` // escaped, below the site's base path
	Requests int64  `json:"requests"`
	// Own and Elsewhere are how many of them a page of the site, or of another one, led there.
	Own       int64 `json:"own,omitempty"`
	Elsewhere int64 `json:"elsewhere,omitempty"`
	// To is where they should be led; "" if that is not known, Why says how it is known, and Rule
	// is the line that does it.
	To   string `json:"to,omitempty"`
	Why  string `json:"why,omitempty"`
	Rule string `json:"rule,omitempty"`
}

// IsLinked reports whether pages lead there: who follows a link has been promised something.
func (a Address) IsLinked() bool { return a.Own+a.Elsewhere > 0 }

// Earlier is a release that was live once.
type Earlier struct {
	Label string // of the entry: production:12
	difference.Side
}

// How sure a proposal is, the surest first; a later one is only looked for where the ones before
// found nothing:
//
//	moved      an earlier release had the page, and its content lies elsewhere now
//	led        an earlier release had a rule that led there, and the place is still there
//	otherwise  the same, written in other letters, with another ending, as an index
//	named      the only page with that last part
//	spelled    a letter or two apart

// finder finds addresses of a release.
type finder struct {
	live  difference.Side
	all   []string            // addresses of pages and documents
	plain map[string]string   // by what is left without what is often written otherwise
	last  map[string][]string // by their last part
}

// Find says of paths that were missing where they should lead. What answers by now is left out,
// as is what lies outside of the site's base path. earlier yields releases that were live,
// the newest first, which are read as far as something is to be found in them.
func Find(ctx context.Context, live difference.Side, earlier iter.Seq2[Earlier, error], names []traffic.Name,
) (list []Address, err error) {
	f := finder{live: live, plain: map[string]string{}, last: map[string][]string{}}
	for _, file := range live.Files {
		switch media.ClassOf(file.Path) {
		case media.Page, media.Document, media.Feed, media.Archive, media.Data:
			at := answer.Address(file.Path)
			f.all = append(f.all, at)
			if _, taken := f.plain[plain(at)]; !taken {
				f.plain[plain(at)] = at
			}
			f.last[lastOf(at)] = append(f.last[lastOf(at)], at)
		}
	}
	slashed := map[string]int{} // one address with a slash at its end, and without
	for _, name := range names {
		below, ok := strings.CutPrefix(name.Name, live.Base)
		if !ok || !strings.HasPrefix(below, "/") {
			continue
		}
		if i, seen := slashed[strings.TrimSuffix(below, "/")]; seen {
			list[i].Requests += name.Requests
			list[i].Own += name.Own
			list[i].Elsewhere += name.Elsewhere
			continue
		}
		_, status, err := answers(ctx, live, below)
		if err != nil {
			return nil, err
		}
		if status == http.StatusNotFound { // 410 is what somebody wants
			slashed[strings.TrimSuffix(below, "/")] = len(list)
			list = append(list, Address{Path: below, Requests: name.Requests, Own: name.Own,
				Elsewhere: name.Elsewhere})
		}
	}
	if len(list) == 0 {
		return nil, nil
	}
	if err := f.moved(ctx, list, earlier); err != nil {
		return nil, err
	}
	slices.SortStableFunc(list, func(a, b Address) int { return cmp.Compare(b.Requests, a.Requests) })
	for i := range list {
		if a := &list[i]; a.To == "" {
			to, why := f.near(a.Path)
			if a.To = to; a.Why == "" {
				a.Why = why
			} else if to != "" {
				a.Why += ", " + why
			}
		}
		list[i].Rule = rule(list[i])
	}
	return list, nil
}

// answers returns the status that a release gives an address, and at which one in the end. What a
// fallback answers is taken for nothing: it answers everything.
func answers(ctx context.Context, side difference.Side, path string) (at string, status int, err error) {
	const hops = 4
	for range hops {
		a, err := answer.Decide(ctx, answer.Request{Method: http.MethodGet, Path: side.Base + path,
			Base: side.Base, Scheme: "https", Environment: project.Production, Now: side.Now}, side.Site)
		switch {
		case err != nil:
			return "", 0, err
		case a.By == answer.By(rules.Fallback):
			return path, http.StatusNotFound, nil
		case !strings.HasPrefix(a.Location, side.Base+"/"):
			return path, a.Status, nil
		}
		path, _, _ = strings.Cut(strings.TrimPrefix(a.Location, side.Base), "?")
		path, _, _ = strings.Cut(path, "#")
	}
	return path, http.StatusOK, nil
}

// moved finds what was there once, and lies at another address now.
func (f *finder) moved(ctx context.Context, list []Address, earlier iter.Seq2[Earlier, error]) error {
	open := map[string]*Address{}
	for i := range list {
		open[list[i].Path] = &list[i]
	}
	for before, err := range earlier {
		if err != nil {
			return err
		}
		var files map[string]string // by address, of what went
		for lost, a := range open {
			at, status, err := answers(ctx, before.Side, lost)
			if err != nil {
				return err
			}
			if status >= http.StatusBadRequest {
				continue
			}
			delete(open, lost)
			if files == nil {
				if files, err = movedFrom(ctx, before.Side, f.live); err != nil {
					return err
				}
			}
			a.Why = "it was there until " + before.Label
			if to := files[at]; to != "" {
				a.To, a.Why = to, "it moved after "+before.Label
			} else if now, is, err := answers(ctx, f.live, at); err == nil && is == http.StatusOK &&
				at != lost {
				a.To, a.Why = now, "a rule led there until "+before.Label
			}
		}
		if len(open) == 0 {
			return nil
		}
	}
	return nil
}

// A page that moved is found by its content, as a comparison of releases finds it: the same bytes, or
// most of the same words. So a page that moved and was edited in one commit is found too, and one
// that was written anew is not.

// movedFrom returns where what went lies now, by address.
func movedFrom(ctx context.Context, before, after difference.Side) (map[string]string, error) {
	items, err := difference.Moves(ctx, before, after)
	moved := map[string]string{}
	for _, item := range items {
		moved[answer.Address(item.From)] = answer.Address(item.Path)
	}
	return moved, err
}

// near finds an address that is nearly the same.
func (f *finder) near(lost string) (to, why string) {
	if media.ClassOf(lost) >= media.Style {
		return "", "" // a script under another name is another script
	}
	if to := f.plain[plain(lost)]; to != "" {
		return to, "it is written otherwise"
	}
	if same := f.last[lastOf(lost)]; len(same) == 1 && len(lastOf(lost)) > 3 {
		return same[0], "the only page of that name"
	}
	// The nearest, if it is near: a letter or two, and more of what is long.
	const share = 6
	if len(f.all) > 20_000 || len(lost) < 6 {
		return "", ""
	}
	if at := spelling.Nearest(plain(lost), f.plains(lost)); at != "" {
		if to := f.plain[at]; spelling.Distance(at, plain(lost)) <= max(1, len(lost)/share) {
			return to, "it is spelled nearly so"
		}
	}
	return "", ""
}

// plains are the addresses that can be near one: those of about its length.
func (f *finder) plains(lost string) (list []string) {
	const apart = 4
	for at := range f.plain {
		if len(at)-len(lost) <= apart && len(lost)-len(at) <= apart {
			list = append(list, at)
		}
	}
	slices.Sort(list)
	return list
}

// Old sites had files where new ones have pages, and people write as they speak:
//
//	/Fares.PHP   /fares   /fares/index.html   /fares/    all are /fares
//	/time_table  /time-table  /time%20table              all are /time-table

// plain is an address without what is often written otherwise: the case of letters, a slash and
// the usual endings at its end, the name of an index, and how words are joined.
func plain(at string) string {
	names, _, err := address.Split(at)
	text := at
	if err == nil {
		text = "/" + strings.Join(names.Names, "/")
	}
	text = strings.ToLower(strings.TrimSuffix(text, "/"))
	for _, ending := range []string{".html", ".htm", ".php", ".aspx", ".asp", ".jsp", ".shtml"} {
		text = strings.TrimSuffix(text, ending)
	}
	text = strings.TrimSuffix(strings.TrimSuffix(text, "/index"), "/default")
	return strings.NewReplacer("_", "-", " ", "-").Replace(text)
}

// lastOf is the last part of an address, plainly.
func lastOf(at string) string { return path.Base("/" + plain(at)) }

// rule is the line that leads from an address to where it should lead; "" if there is none.
func rule(a Address) string {
	if a.To == "" {
		return ""
	}
	var row strings.Builder
	w := csv.NewWriter(&row)
	w.Write([]string{a.Path, a.To}) //nolint:errcheck // in memory
	w.Flush()
	// The first row may be taken for a heading, unless it has addresses.
	moved, err := rules.Import(strings.NewReader(row.String()), nil)
	if err != nil || len(moved) != 1 {
		return ""
	}
	return moved[0].Text
}

// The path of a proposal was typed by a stranger, and goes into a file of rules. It is written by
// the package that reads rules, which escapes what would mean something there.

// Comment says of an address what a reader of the rule wants to know.
func (a Address) Comment() string {
	text := fmt.Sprintf("asked for %d times", a.Requests)
	if a.Why != "" {
		text += "; " + a.Why
	}
	return text
}
