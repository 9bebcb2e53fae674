package names

import (
	"slices"
	"strings"
)

// What Orilla made in a zone is written down in it, at _orilla.ZONE: a TXT record for each
// record. So it never touches what somebody else has made, and takes back exactly what it
// made, also of names that orilla.yaml has no more.
//
//	_orilla.corvane.example. 300 IN TXT "orilla1 corvane 3f9a2c1b A www.corvane.example 192.0.2.10"

// markLabel begins the name at which marks are.
const markLabel = "_orilla"

// markVersion begins each mark.
const markVersion = "orilla1"

// MarksName is where it is written what Orilla made in a zone.
func MarksName(zone string) string { return markLabel + "." + zone }

// Owner is for whom records are made.
type Owner struct {
	Site  string
	Store string // the beginning of the digest of the store's id: two stores may have a site of one name
}

// mark is the value of the record that says that another one is Orilla's.
func (o Owner) mark(r Record) string {
	return quote(strings.Join([]string{markVersion, o.Site, o.Store, r.Type, r.Name, r.Value}, " "))
}

// quote writes a text as the strings of a TXT record, of 255 bytes at most each (RFC 1035,
// section 3.3.14).
func quote(text string) string {
	const most = 255
	var parts []string
	for len(text) > 0 {
		n := min(len(text), most)
		part := strings.ReplaceAll(strings.ReplaceAll(text[:n], `\`, `\\`), `"`, `\"`)
		parts, text = append(parts, `"`+part+`"`), text[n:]
	}
	return strings.Join(parts, " ")
}

// unquote reads the strings of a TXT record. Escapes of decimal numbers stay: no mark has
// any.
func unquote(value string) string {
	var text strings.Builder
	inside, escaped := false, false
	for _, c := range []byte(value) {
		switch {
		case escaped:
			text.WriteByte(c)
			escaped = false
		case c == '\\':
			escaped = true
		case c == '"':
			inside = !inside
		case inside:
			text.WriteByte(c)
		}
	}
	return text.String()
}

// marked reads a mark, and whose it is.
func marked(value string) (r Record, owner Owner, ok bool) {
	fields := strings.SplitN(unquote(value), " ", 6)
	if len(fields) != 6 || fields[0] != markVersion {
		return r, owner, false
	}
	return Record{Type: fields[3], Name: fields[4], Value: fields[5]},
		Owner{fields[1], fields[2]}, true
}

// Change is what is to be done to a zone.
type Change struct {
	Zone   string
	Add    []Record // marks are among them
	Remove []Record
	Keep   []Record // of what is wanted: it is there
	// InTheWay was made by somebody else, and keeps what is wanted from working.
	InTheWay []Record
	// Before is what was there at the names that are touched: an update is refused if that
	// has changed since (RFC 2136, section 2.4).
	Before []Record
}

// Empty reports whether nothing is to be done.
func (c Change) Empty() bool { return len(c.Add)+len(c.Remove) == 0 }

// Visible returns records without the marks.
func Visible(records []Record) []Record {
	return slices.DeleteFunc(slices.Clone(records), func(r Record) bool {
		return strings.HasPrefix(r.Name, markLabel+".")
	})
}

// How a change comes about:
//
//	wanted and there              nothing, whoever made it
//	wanted and not there          the record, and a mark for it
//	marked and no longer wanted   the record goes, with its mark
//	marked and gone               only the mark goes: somebody took the record away by hand
//	there, not marked, and in the way of what is wanted: told, and never touched

// Compare says what is to be done so that a zone has what is wanted; nothing wanted takes
// back all that the owner has made. there is what the zone has: at the names that are
// wanted, at those of Marked, and at MarksName. takeOver counts what the site made from
// another store as its own.
func Compare(zone string, owner Owner, wanted, there []Record, takeOver bool) Change {
	change := Change{Zone: zone, Before: there}
	own := Marked(zone, owner, there, takeOver)
	has := func(list []Record, r Record) bool { return slices.ContainsFunc(list, r.Is) }
	mark := func(r Record) Record {
		return Record{MarksName(zone), "TXT", DefaultTTL, owner.mark(r)}
	}

	// What is wanted: it is there, or there with another time to live, or not.
	for _, w := range wanted {
		at := slices.IndexFunc(there, w.Is)
		switch {
		case at >= 0 && (there[at].TTL == w.TTL || !has(own, w)):
			change.Keep = append(change.Keep, w) // whoever made it
		case at >= 0:
			change.Add = append(change.Add, w) // with another time to live
		default:
			change.Add = append(change.Add, w)
			if !has(own, w) {
				change.Add = append(change.Add, mark(w))
			}
		}
	}
	// What was made and is not wanted any more.
	for _, r := range own {
		if has(wanted, r) {
			continue
		}
		// What is gone already was taken away by hand; only the mark is left.
		if at := slices.IndexFunc(there, r.Is); at >= 0 {
			change.Remove = append(change.Remove, there[at])
		}
	}
	// The marks themselves: those of what goes, and those of another store that is taken over.
	for _, r := range there {
		if r.Name != MarksName(zone) || r.Type != "TXT" {
			continue
		}
		m, of, ok := marked(r.Value)
		if !ok || of.Site != owner.Site || of.Store != owner.Store && !takeOver {
			continue
		}
		if !has(wanted, m) {
			change.Remove = append(change.Remove, r)
		} else if of != owner { // taken over
			change.Remove = append(change.Remove, r)
			change.Add = append(change.Add, mark(m))
		}
	}
	change.InTheWay = inTheWay(wanted, there, own)
	return change
}

// Marked lists what an owner has made in a zone, by the marks among its records.
func Marked(zone string, owner Owner, there []Record, takeOver bool) []Record {
	var own []Record
	for _, r := range there {
		if r.Name != MarksName(zone) || r.Type != "TXT" {
			continue
		}
		m, of, ok := marked(r.Value)
		if ok && of.Site == owner.Site && (of.Store == owner.Store || takeOver) &&
			(m.Name == zone || strings.HasSuffix(m.Name, "."+zone)) && !slices.ContainsFunc(own, m.Is) {
			own = append(own, m)
		}
	}
	return own
}

// leads reports whether a record of a type leads visitors somewhere.
func leads(kind string) bool { return kind == "A" || kind == "AAAA" || kind == "CNAME" }

// inTheWay lists records of others that lead visitors elsewhere, or keep ours from being.
func inTheWay(wanted, there, own []Record) (foreign []Record) {
	for _, r := range there {
		if slices.ContainsFunc(own, r.Is) || slices.ContainsFunc(wanted, r.Is) {
			continue
		}
		if slices.ContainsFunc(wanted, func(w Record) bool {
			return w.Name == r.Name && (leads(w.Type) && leads(r.Type) ||
				// Beside a CNAME nothing else can be (RFC 1034, section 3.6.2).
				w.Type == "CNAME" || r.Type == "CNAME")
		}) {
			foreign = append(foreign, r)
		}
	}
	return foreign
}
