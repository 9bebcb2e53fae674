package project

import (
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"
	"encoding/hex"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"

	"golang.org/x/text/unicode/norm"
)

// Duration is a length of time, written with units: "90s",
// "10m", "24h", "7d", "1h30m".
type Duration time.Duration

// Never is written for no end, where a length of time could stand.
const Never = "never"

var dayForm = regexp.MustCompile(`^(\d+)d(.*)$`)

// ParseDuration reads a length of time that is not negative. A day is 24 hours.
//
//	90s   10m   24h   7d   1h30m   1d12h
//
// The error is a sentence that can follow the name of a key or an option.
func ParseDuration(text string) (Duration, error) {
	var days time.Duration
	rest := text
	if match := dayForm.FindStringSubmatch(text); match != nil {
		n, err := strconv.Atoi(match[1])
		if err != nil || n > 36500 {
			return 0, fmt.Errorf("duration too long: %q", text)
		}
		days, rest = time.Duration(n)*24*time.Hour, match[2]
		if rest == "" {
			return Duration(days), nil
		}
	}

	d, err := time.ParseDuration(rest)
	if err != nil || d < 0 {
		return 0, fmt.Errorf("not a duration: %q; write 90s, 10m, 24h or 7d", text)
	}
	return Duration(days + d), nil
}

// ParseMoment reads a time that is to come: a length of time from now on, or a
// day or a time in RFC 3339's order (2026-12-27, 2026-12-27T08:00,
// 2026-12-27T08:00:00+01:00). Without an offset it is in the zone, nil for the
// machine's own. A day is its beginning.
func ParseMoment(text string, now time.Time, zone *time.Location) (time.Time, error) {
	if length, err := ParseDuration(text); err == nil {
		if length == 0 {
			return time.Time{}, fmt.Errorf("%q is now", text)
		}
		return now.Add(time.Duration(length)).UTC().Truncate(time.Second), nil
	}

	if zone == nil {
		zone = time.Local
	}
	at, ok := ParseTime(text, zone)
	switch {
	case !ok:
		return time.Time{}, fmt.Errorf("not a time: %q; write 2h, 3d, 2026-12-27 or 2026-12-27T08:00", text)
	case !at.After(now):
		return time.Time{}, fmt.Errorf("%s is past: it is %s", at.Format("2006-01-02 15:04 MST"),
			now.In(zone).Format("2006-01-02 15:04 MST"))
	}

	return at.UTC(), nil
}

// ParseTime reads a day or a time in RFC 3339's order, with or without seconds
// and offset; without one it is in the zone. A day is its beginning.
func ParseTime(text string, zone *time.Location) (time.Time, bool) {
	for _, form := range []string{time.RFC3339, "2006-01-02T15:04Z07:00", "2006-01-02T15:04:05",
		"2006-01-02T15:04", "2006-01-02 15:04", time.DateOnly} {
		if at, err := time.ParseInLocation(form, text, zone); err == nil {
			return at, true
		}
	}
	return time.Time{}, false
}

// Size is a number of bytes, written with decimal units:
// "500kB", "25MB", "10GB".
type Size int64

var sizeForm = regexp.MustCompile(`^(\d+(?:\.\d+)?)\s*(B|kB|KB|MB|GB|TB)?$`)

// ParseSize reads a number of bytes.
//
//	500kB   25MB   10GB   1.5GB
//
// Units are decimal (SI), as hosts and disks count: a kB has 1,000 bytes.
func ParseSize(text string) (Size, error) {
	match := sizeForm.FindStringSubmatch(strings.TrimSpace(text))
	if match == nil {
		return 0, fmt.Errorf("not a size: %q; write 500kB, 25MB or 10GB", text)
	}
	number, err := strconv.ParseFloat(match[1], 64)
	if err != nil {
		return 0, err
	}

	unit := map[string]float64{"": 1, "B": 1, "kB": 1e3, "KB": 1e3, "MB": 1e6, "GB": 1e9,
		"TB": 1e12}[match[2]]
	return Size(number * unit), nil
}

// MaxLabel is how long a DNS label may be (RFC 1035).
const MaxLabel = 63

var labelForm = regexp.MustCompile(`^[a-z0-9]([a-z0-9-]*[a-z0-9])?$`)

// IsLabel reports whether name is a DNS label in lower case.
//
// RFC 1035, section 2.3.1, but that a digit may come first (RFC 1123, section
// 2.1).
func IsLabel(name string) bool { return len(name) <= MaxLabel && labelForm.MatchString(name) }

// Label turns any name into a DNS label: accents fall
// away, everything else but letters and digits becomes a
// dash. Names of which nothing is left become "site".
//
//	Corvane Ferries   corvane-ferries
//	Tórshavn          torshavn
func Label(name string) string {
	var out strings.Builder
	// Taken apart, an accented letter is a letter and a mark (Mn), which falls
	// away.
	for _, c := range norm.NFKD.String(strings.ToLower(name)) {
		switch {
		case c >= 'a' && c <= 'z' || c >= '0' && c <= '9':
			out.WriteRune(c)
		case unicode.Is(unicode.Mn, c):
		case out.Len() > 0 && !strings.HasSuffix(out.String(), "-"):
			out.WriteByte('-')
		}
	}

	label := strings.Trim(out.String(), "-")
	if len(label) > MaxLabel {
		label = strings.TrimRight(label[:MaxLabel], "-")
	}
	if label == "" {
		return "site"
	}
	return label
}

// BranchLabel returns the label of a branch's preview. Any
// two branch names have different labels: one that is not
// itself a label gets a part of its hash.
//
//	winter-times   winter-times
//	fix/Fares      fix-fares-<eight digits of its SHA-256>
//
// Without the digits, fix/fares and fix-fares would share an address, and
// whoever may push the one could replace the other.
func BranchLabel(branch string) string {
	if IsLabel(branch) && len(branch) <= 40 && !hashedForm.MatchString(branch) {
		return branch
	}
	return hashedLabel(branch)
}

// hashedLabel is the label of a branch with a part of its hash.
func hashedLabel(branch string) string {
	sum := sha256.Sum256([]byte(branch))
	label := Label(branch)
	if len(label) > 40 {
		label = strings.TrimRight(label[:40], "-")
	}
	return label + "-" + hex.EncodeToString(sum[:4])
}

// withSecret adds to a label what nobody can guess who does not know the
// secret: 50 bits of an HMAC-SHA256 of the name, in lower-case Base32 (RFC
// 4648).
func withSecret(label, name, secret string) string {
	if secret == "" {
		return label
	}
	// The label in front keeps the secret from signing anything else.
	mac := hmac.New(sha256.New, []byte(secret))
	mac.Write([]byte("orilla preview\n" + name))
	return label + "-" + strings.ToLower(base32.StdEncoding.EncodeToString(mac.Sum(nil)[:10]))[:10]
}

// RefLabel returns the label of the preview of a ref that is no branch, by its
// full name: it always has a part of its hash, so that no branch, whatever its
// name, has the same.
func RefLabel(ref, secret string) string {
	sum := sha256.Sum256([]byte(ref))
	label := Label(strings.TrimPrefix(ref, "refs/"))
	// Room is left for the secret part: sixty-three characters in all.
	label = strings.TrimRight(label[:min(len(label), 40)], "-") + "-" + hex.EncodeToString(sum[:4])

	return withSecret(label, ref, secret)
}

// hashedForm is the form of labels with a hash; a branch that happens to have
// it gets one too, so as not to meet another's.
var hashedForm = regexp.MustCompile(`-[0-9a-f]{8}$`)

// sortedKeys returns the keys of a map in order.
func sortedKeys[V any](m map[string]V) []string {
	keys := make([]string, 0, len(m))
	for key := range m {
		keys = append(keys, key)
	}
	slices.Sort(keys)
	return keys
}

// FollowsBranch reports whether previews are made for a branch: the last
// pattern that matches decides, and one that begins with "!" excludes. In a
// pattern, * stands for any characters, slashes too.
func (p Previews) FollowsBranch(branch string) bool { return matches(p.Follows, branch) }

// FollowsRef reports whether previews are made for a ref
// that is no branch, such as a proposed change.
func (p Previews) FollowsRef(ref string) bool { return matches(p.Refs, ref) }

// Trusts reports whether builds of a ref, by its full name, are trusted: a
// branch that a fixed environment follows, that is given secrets, or that is
// listed. A ref that is no branch, such as a proposed change, never is. c is
// what the production branch says.
func (c Config) Trusts(ref string) bool {
	branch, isBranch := strings.CutPrefix(ref, "refs/heads/")

	return isBranch && (c.Following(branch) != "" || matches(c.Build.Trust, branch) ||
		matches(c.Build.SecretsFor, branch))
}

// TrustsAll reports whether every branch of the repository is trusted.
func (c Config) TrustsAll() bool {
	return slices.Equal(c.Build.Trust, []string{"*"}) || slices.Equal(c.Build.SecretsFor, []string{"*"})
}

// GivesSecrets reports whether builds of a ref, by its full
// name, are given the secrets that its configuration names. c is
// what the production branch says. Only trusted builds are, and
// those that somebody runs by hand, whose own the secrets are.
func (c Config) GivesSecrets(ref string, byHand bool) bool {
	if c.Build.SecretsFor == nil {
		return byHand || c.Trusts(ref)
	}
	branch, isBranch := strings.CutPrefix(ref, "refs/heads/")

	return isBranch && matches(c.Build.SecretsFor, branch)
}

// matches reports what the last of the patterns that matches decides.
func matches(patterns []string, name string) bool {
	follows := false
	for _, pattern := range patterns {
		exclude := strings.HasPrefix(pattern, "!")
		if globMatch(strings.TrimPrefix(pattern, "!"), name) {
			follows = !exclude
		}
	}
	return follows
}

// globMatch reports whether a pattern of branches fits a name; an asterisk
// stands for any characters, slashes too.
func globMatch(pattern, text string) bool {
	parts := strings.Split(pattern, "*")
	if len(parts) == 1 {
		return pattern == text
	}
	if !strings.HasPrefix(text, parts[0]) {
		return false
	}

	text = text[len(parts[0]):]
	for _, part := range parts[1 : len(parts)-1] {
		at := strings.Index(text, part)
		if at < 0 {
			return false
		}
		text = text[at+len(part):]
	}

	return strings.HasSuffix(text, parts[len(parts)-1])
}
