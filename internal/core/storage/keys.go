package storage

import (
	"fmt"
	"strconv"
	"strings"
)

// The keys of a store, as docs/store-format.md describes them.
const (
	MarkKey    = "orilla-store" // says that a folder or bucket is a store, and in which format
	SitesKey   = "sites"
	PulsesKey  = "pulse"
	EdgesKey   = "edges"
	PinsKey    = "pins"  // who relies on what right now
	PruneKey   = "prune" // what is being removed
	ObjectsKey = "objects"
	// CertificatesKey is the folder of what nodes keep sealed:
	// keys, certificates, answers to challenges.
	CertificatesKey = "certificates"
	// TrafficKey is the folder of what nodes count of visits.
	TrafficKey = "traffic"
	// SaltsKey is the folder of the sealed salts that visitors of a day are numbered under.
	SaltsKey = "salts"
	// RestoredKey is the folder of what says that the
	// store was brought back from a copy.
	RestoredKey = "restored"
	numberSize  = 10
)

// ClaimKey is where it is kept whose the name of a site is.
func ClaimKey(site string) string { return "sites/" + site + "/claim" }

// ReleasesKey is the folder of a site's releases.
func ReleasesKey(site string) string { return "sites/" + site + "/releases" }

// ReleaseKey is where the root of a release is kept; id
// has 64 hexadecimal digits.
func ReleaseKey(site, id string) string { return ReleasesKey(site) + "/" + id }

// BuildsKey is the folder of the builds made under one build key.
func BuildsKey(site, buildKey string) string { return "sites/" + site + "/builds/" + buildKey }

// BuildKey is where the n-th build made under one build key is recorded.
func BuildKey(site, buildKey string, n int) string {
	return BuildsKey(site, buildKey) + "/" + strconv.Itoa(n)
}

// EnvironmentsKey is the folder of a site's environments.
func EnvironmentsKey(site string) string { return "sites/" + site + "/environments" }

// JournalKey is where entry n of an environment's journal is kept. The number
// has ten digits, so that byte order is order.
func JournalKey(site, environment string, n int64) string {
	return fmt.Sprintf("%s/%s/journal/%0*d", EnvironmentsKey(site), environment, numberSize, n)
}

// WaitingKey is the folder of the releases that wait for
// an environment to be thawed, by their ids.
func WaitingKey(site, environment string) string {
	return EnvironmentsKey(site) + "/" + environment + "/waiting"
}

// OutcomeKey is the key of the outcome of the probes that followed entry n of
// an environment's journal.
func OutcomeKey(site, environment string, n int64) string {
	return fmt.Sprintf("%s/%s/outcomes/%0*d", EnvironmentsKey(site), environment, numberSize, n)
}

// What nodes count lies beside the sites and not in them: a node may write there, and nowhere below
// a site. Days are folders, so that a week is listed in seven requests.

// TrafficOf is the folder of what was counted of a site; with a day (2026-11-29), of that day.
func TrafficOf(site, day string) string {
	if day == "" {
		return TrafficKey + "/" + site
	}
	return TrafficKey + "/" + site + "/" + day
}

// TrafficRecord is where it is kept what was counted: HH-ID of a node, or of a whole day.
func TrafficRecord(site, day, name string) string { return TrafficOf(site, day) + "/" + name }

// SaltKey is where the salt of a day is kept.
func SaltKey(day string) string { return SaltsKey + "/" + day }

// Rank tells in which order keys of a store may be removed: roots of releases
// (0) before records (1), records before objects (2), which both lead to. Those
// of one rank may go in any order.
func Rank(key string) int {
	parts := strings.Split(key, "/")
	switch {
	case parts[0] == ObjectsKey, parts[0] == "variants":
		return 2
	case len(parts) == 4 && parts[0] == SitesKey && parts[2] == "releases":
		return 0
	}
	return 1
}

// RunsKey is the folder of a site's runs: the builds that
// were begun, in their order.
func RunsKey(site string) string { return "sites/" + site + "/runs" }

// RunBegunKey is where the first half of run n is kept.
func RunBegunKey(site string, n int64) string {
	return fmt.Sprintf("%s/%0*d/begun", RunsKey(site), numberSize, n)
}

// RunEndedKey is where the second half of run n is kept.
func RunEndedKey(site string, n int64) string {
	return fmt.Sprintf("%s/%0*d/ended", RunsKey(site), numberSize, n)
}

// RunningKey is the folder of the builds that are going on; with a build key,
// the beginning of the keys of what is kept of one.
func RunningKey(site, buildKey string) string {
	if buildKey == "" {
		return "sites/" + site + "/running"
	}
	return "sites/" + site + "/running/" + buildKey
}

// PausedKey is where it is kept that automatic builds of a site are paused.
func PausedKey(site string) string { return "sites/" + site + "/paused" }

// NoticesKey is the folder of the turns of those who send a site's notices.
func NoticesKey(site string) string { return "sites/" + site + "/notices" }

// NoticeKey is where the holder of turn n keeps what is to be sent.
func NoticeKey(site string, n int64) string {
	return fmt.Sprintf("%s/%0*d", NoticesKey(site), numberSize, n)
}

// PicturesKey is the folder of the records of pictures of a site's releases; with a release, of that.
func PicturesKey(site, id string) string {
	if id == "" {
		return "sites/" + site + "/pictures"
	}
	return "sites/" + site + "/pictures/" + id
}

// PictureKey is where it is kept which pictures were taken of a release in one way.
func PictureKey(site, id, key string) string { return PicturesKey(site, id) + "/" + key }

// ImagesKey is the folder of the images that records of pictures name.
func ImagesKey(site string) string { return "sites/" + site + "/images" }

// ImageKey is where an image is kept; its digest has 64 hexadecimal digits.
func ImageKey(site, digest string) string { return ImagesKey(site) + "/" + digest }

// FollowersKey is the folder in which those who follow a
// repository for a site say what waits.
func FollowersKey(site string) string { return "sites/" + site + "/followers" }

// HostsKey is the folder of the journals of hosts, by the
// SHA-256 of their names.
const HostsKey = "hosts"

// HostKey is where entry n of the journal of a host is kept; hash is the
// hexadecimal SHA-256 of its name.
func HostKey(hash string, n int64) string {
	return fmt.Sprintf("%s/%s/%0*d", HostsKey, hash, numberSize, n)
}

// RemovedKey is where it is kept that a site was removed,
// as it was under an incarnation.
func RemovedKey(site, incarnation string) string { return "removed/" + site + "/" + incarnation }

// PulseKey is where the last writer of a site leaves a
// hint that something moved.
func PulseKey(site string) string { return "pulse/" + site }

// EdgeKey is where an edge node says that it is there.
func EdgeKey(node string) string { return "edges/" + node }

// PinKey is where a writer says that it relies on what is there.
func PinKey(id string) string { return PinsKey + "/" + id }

// SiteKey is the folder of everything that belongs to a site.
func SiteKey(site string) string { return SitesKey + "/" + site }
