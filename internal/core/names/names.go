// Package names says what the names of a site need, so that visitors find it: which hosts
// there are, which records of the Domain Name System lead them to edge nodes, what of that
// is there, and what keeps a name from working. It asks nobody: others look, and tell it.
//
//	orilla.yaml --> Group --> Plan.Records --> Compare --> Change, a dynamic update
//	                  |                           ^
//	                  v                           |
//	                 Seen, by who asked name servers and edges --> Judge --> findings
//
// Names are as DNS compares them: ASCII in lower case (RFC 5891 for others), without a
// final dot. "*.NAME" is a wildcard (RFC 4592); certificates know it for one label.
package names

import (
	"errors"
	"fmt"
	"net/netip"
	"net/url"
	"slices"
	"strings"

	"golang.org/x/net/idna"
)

// Host is a name at which a site is to be found.
type Host struct {
	Name string // in ASCII; "*.NAME" where each preview has a name of its own
	Uses []Use  // in the order of orilla.yaml, at least one
}

// Several environments, or several addresses of one, may be on one host: the host is looked at
// once, and what is at its root is decided by the first.

// Use is an address on a host.
type Use struct {
	Environment string `json:"environment"` // as people write it; AllPreviews for a pattern
	Address     string `json:"address"`     // as orilla.yaml has it, with the host in ASCII
	// To is the canonical address of the environment, where this is another one.
	To string `json:"to,omitempty"`
}

// AllPreviews stands for the environments of all previews.
const AllPreviews = "preview/*"

// IsWildcard reports whether the host stands for all names one label below another.
func (h Host) IsWildcard() bool { return strings.HasPrefix(h.Name, "*.") }

// Probe is a name that can be asked for: the host, or one that its wildcard covers.
// label is what stands for the wildcard.
func (h Host) Probe(label string) string {
	if rest, ok := strings.CutPrefix(h.Name, "*."); ok {
		return label + "." + rest
	}
	return h.Name
}

// ErrName is what keeps a text from being a name that DNS can have.
var ErrName = errors.New("not a name that DNS can have")

// profile is how browsers read names, with the bounds of RFC 1035, section 2.3.4. Names
// with an underscore are no host names, and are in use.
var profile = idna.New(idna.MapForLookup(), idna.BidiRule(), idna.VerifyDNSLength(true),
	idna.StrictDomainName(false))

// ASCII returns a name as DNS has it. A first label "*" stays. The error is ErrName, with
// what is wrong.
func ASCII(name string) (string, error) {
	name = strings.TrimSuffix(name, ".")
	rest, wildcard := strings.CutPrefix(name, "*.")
	for label := range strings.SplitSeq(rest, ".") {
		if len(label) > 63 && isASCII(label) {
			return "", fmt.Errorf("%w: the label %s… has %d characters, 63 are the most", ErrName,
				label[:12], len(label))
		}
	}
	ascii, err := profile.ToASCII(rest)
	if err == nil {
		// What was written can be read again: bytes that are not UTF-8 could not.
		_, err = profile.ToASCII(ascii)
	}
	if err == nil && strings.HasSuffix(ascii, ".") {
		err = errors.New("it ends in an empty label")
	}
	switch {
	case err != nil && len(rest) > 253 && isASCII(rest):
		return "", fmt.Errorf("%w: it has %d characters, 253 are the most", ErrName, len(rest))
	case err != nil:
		return "", fmt.Errorf("%w: %s", ErrName, strings.TrimPrefix(err.Error(), "idna: "))
	case wildcard:
		return "*." + ascii, nil
	}
	return ascii, nil
}

// Address writes the host of an address as browsers send it. What cannot be written so, and
// addresses of IPv6, stay as they are.
func Address(address string) string {
	scheme, rest, _ := strings.Cut(address, "://")
	authority, path, _ := strings.Cut(rest, "/")
	host, port, _ := strings.Cut(authority, ":")
	if isASCII(authority) || strings.HasPrefix(authority, "[") {
		return address
	}
	// Each label for itself: the place of one is no part of a name.
	labels := strings.Split(host, ".")
	for i, label := range labels {
		if ascii, err := ASCII(label); err == nil && !strings.Contains(label, LabelPlace) {
			labels[i] = ascii
		}
	}
	if host = strings.Join(labels, "."); port != "" {
		host += ":" + port
	}
	return scheme + "://" + host + "/" + path
}

// isASCII reports whether a text has no other characters.
func isASCII(text string) bool {
	return !strings.ContainsFunc(text, func(r rune) bool { return r > 0x7e })
}

// Unicode returns a name as people read it, in the letters of its language.
func Unicode(name string) string {
	rest, wildcard := strings.CutPrefix(name, "*.")
	// Display is careful: a name that it does not like stays in ASCII.
	text, err := idna.Display.ToUnicode(rest)
	switch {
	case err != nil:
		return name
	case wildcard:
		return "*." + text
	}
	return text
}

// IsPublic reports whether DNS leads to a host: not to addresses, and not to names that
// mean this machine (RFC 6761, section 6.3).
func IsPublic(host string) bool {
	if _, err := netip.ParseAddr(strings.Trim(host, "[]")); err == nil {
		return false
	}
	return host != "localhost" && !strings.HasSuffix(host, ".localhost")
}

// LabelPlace stands, in an address of previews, for the label of one.
const LabelPlace = "{preview}"

// Group arranges addresses by their hosts, in alphabetical order, wildcards behind the
// others. Addresses of this machine are left out. The error is ErrName, with the address.
func Group(uses []Use) ([]Host, error) {
	found := map[string]*Host{}
	for _, use := range uses {
		address, err := url.Parse(strings.ReplaceAll(use.Address, LabelPlace, placeholder))
		if err != nil {
			return nil, err
		}
		name, err := ASCII(pattern(address.Hostname()))
		if err != nil {
			return nil, fmt.Errorf("%s: %w", use.Address, err)
		}
		if !IsPublic(name) {
			continue
		}
		if found[name] == nil {
			found[name] = &Host{Name: name}
		}
		found[name].Uses = append(found[name].Uses, use)
	}
	var list []Host
	for _, host := range found {
		list = append(list, *host)
	}
	slices.SortFunc(list, func(a, b Host) int {
		switch {
		case a.IsWildcard() == b.IsWildcard():
			return strings.Compare(a.Name, b.Name)
		case a.IsWildcard():
			return 1
		}
		return -1
	})
	return list, nil
}

// placeholder is a label that stands for a preview's while an address is parsed.
const placeholder = "orilla-label"

// pattern turns the label that holds the placeholder into a wildcard: DNS and
// certificates know no part of one.
func pattern(host string) string {
	labels := strings.Split(host, ".")
	for i, label := range labels {
		if strings.Contains(label, placeholder) {
			labels[i] = "*"
		}
	}
	return strings.Join(labels, ".")
}
