package storage

import (
	"slices"
	"strings"
)

// Role is what somebody does with a store.
type Role string

// The roles. All of them read.
const (
	Deployer Role = "deployer" // builds, deploys, promotes, goes back, follows, copies
	Edge     Role = "edge"     // answers visitors
	Pruner   Role = "pruner"   // prunes, repairs, removes sites
	Owner    Role = "owner"    // makes the store
)

// Roles are those that work with a store once it is made.
var Roles = []Role{Deployer, Edge, Pruner}

// Kind is one kind of keys: who writes them. In a pattern, SITE stands for the
// name of a site, * for one part of a key, and a final ** for one part or more.
type Kind struct {
	Pattern string
	What    string
	Create  []Role // keys that are not there
	Replace []Role // what is there
	Delete  []Role
}

var (
	deploys = []Role{Deployer}
	prunes  = []Role{Pruner}
	serves  = []Role{Edge}
	both    = []Role{Deployer, Pruner}
	counts  = []Role{Edge, Pruner}
)

// Kinds are all kinds of keys of a store (docs/store-format.md).
// What is printed of rights, and the tests of them, come from
// this table; no other key is ever written.
var Kinds = []Kind{
	{MarkKey, "the mark of the store", []Role{Owner}, nil, []Role{Owner}},
	{"objects/**", "content", both, both, prunes}, // one that is damaged is replaced
	{"variants/**", "encoded copies of content", []Role{Deployer, Edge}, nil, []Role{Edge, Pruner}},
	// a removal that keeps the name begins it anew
	{"sites/SITE/claim", "the owner of the name", deploys, both, prunes},
	{"sites/SITE/releases/*", "roots of releases", both, prunes, prunes}, // a prune repairs
	{"sites/SITE/builds/**", "how releases were built", both, prunes, prunes},
	{"sites/SITE/environments/*/journal/*", "what was live when", both, prunes, prunes},
	{"sites/SITE/environments/*/outcomes/*", "results of --wait-for checks", both, deploys, prunes},
	{"sites/SITE/environments/*/waiting/*", "what waits for a thaw", deploys, deploys, both},
	{"sites/SITE/runs/**", "builds, started and ended", both, nil, prunes},
	{"sites/SITE/running/*", "running builds", deploys, deploys, both},
	{"sites/SITE/followers/*", "followers of the repository", deploys, deploys, both},
	{"sites/SITE/notices/*", "notices that are to be sent", deploys, deploys, both},
	{"sites/SITE/pictures/*/*", "which pictures of pages there are", deploys, deploys, both},
	{"sites/SITE/images/*", "pictures of pages", deploys, deploys, both},
	{"sites/SITE/paused", "paused builds", deploys, deploys, both},
	{"hosts/*/*", "the owner of a host", both, nil, []Role{Owner}}, // with the store
	{"removed/SITE/*", "removed sites", prunes, nil, []Role{Owner}},
	{"restored/*", "restored backups", prunes, nil, []Role{Owner}},
	{"pulse/SITE", "hints of changes", both, both, prunes},
	{"pins/*", "pins of running deploys", both, both, both},
	{"prune/*", "running prunes", prunes, prunes, prunes},
	{"edges/*", "edge nodes", serves, serves, serves},
	{"certificates/*/*", "sealed keys and certificates", serves, serves, serves},
	{"traffic/SITE/*/*", "counts of visits", counts, counts, prunes}, // a prune makes one of a day's
	{"salts/*", "sealed salts of visitors' numbers", serves, nil, serves},
	{"probe/*", "a test of rights", []Role{Owner, Deployer, Pruner}, []Role{Owner, Deployer, Pruner},
		[]Role{Owner, Deployer, Pruner}},
}

// KindOf returns the kind of a key.
func KindOf(key string) (Kind, bool) {
	for _, kind := range Kinds {
		if kind.matches(key) {
			return kind, true
		}
	}
	return Kind{}, false
}

// matches reports whether a key is of the kind. In a pattern * and SITE stand
// for one part, ** for all that are left.
func (k Kind) matches(key string) bool {
	pattern, parts := strings.Split(k.Pattern, "/"), strings.Split(key, "/")
	for i, want := range pattern {
		switch {
		case want == "**":
			return len(parts) > i
		case i >= len(parts), want != "*" && want != "SITE" && want != parts[i]:
			return false
		}
	}
	return len(parts) == len(pattern)
}

// Folder is the pattern up to where it names more than one key: what rights are
// given for, "" if the pattern is a key.
func (k Kind) Folder() string {
	folder, _, more := strings.Cut(k.Pattern, "*")
	if !more {
		return ""
	}
	return folder
}

// Writes reports whether a role may write keys of a kind.
func (k Kind) Writes(role Role) bool {
	return slices.Contains(k.Create, role) || slices.Contains(k.Replace, role)
}

// Deletes reports whether a role may delete keys of a kind.
func (k Kind) Deletes(role Role) bool { return slices.Contains(k.Delete, role) }

// OfSite reports whether keys of a kind belong to one site.
func (k Kind) OfSite() bool { return strings.Contains(k.Pattern, "SITE") }
