package fingerprint

import (
	"regexp"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/media"
)

// alphabet is the letters that a digest is written with.
type alphabet string

// The alphabets of build tools: hexadecimal digits, base32 (RFC 4648), base36
// without and with two signs, and base64url (RFC 4648), each a part of the last.
const (
	digits             = "0123456789"
	lower              = "abcdefghijklmnopqrstuvwxyz"
	upper              = "ABCDEFGHIJKLMNOPQRSTUVWXYZ"
	hex       alphabet = digits + "abcdef"
	base32    alphabet = upper + "234567"
	base36    alphabet = digits + lower
	base38    alphabet = digits + lower + "-_"
	base64URL alphabet = digits + lower + upper + "-_"
)

// allOf reports whether a text has no other characters than an alphabet's.
func allOf(text string, a alphabet) bool {
	for i := range len(text) {
		if strings.IndexByte(string(a), text[i]) < 0 {
			return false
		}
	}
	return true
}

// form is how a build tool writes a digest into a name: in which alphabet, and
// how long.
type form struct {
	alphabet alphabet
	length   int
}

// mark is a part of a name that could be a digest.
type mark struct {
	form  form
	shape shape
	// it has digits, capitals and small letters, or these in turn as no word has them; digits
	// and capitals only, as words have not
	kinds, capitals bool
}

// shape is what a part of a name looks like, from the least to the most telling.
type shape int

const (
	word     shape = iota // words and numbers, such as people write them
	doubtful              // hardly a word, but possible: camelCase, a word and a number
	random                // no word
	certain               // no word, and of so many kinds of characters that it is a digest
)

// shortest is how short a digest may be.
const shortest = 8

// marks lists what in a stem could be a digest: what stands behind the last dash
// or dot, or further ones until it is long enough (base64url has dashes of its
// own), or all of it. Behind an underscore or a tilde only hexadecimal digits
// count.
func marks(stem string, class media.Class) []mark {
	// A UUID says which, and not what (RFC 9562).
	if len(stem) >= len("00000000-0000-0000-0000-000000000000") && uuid.MatchString(stem) {
		return nil
	}
	var list []mark
	token := last(stem)
	// A picture that is called 3f9a1c2b.jpg comes from a camera or a database.
	if len(token) >= shortest && (len(token) < len(stem) || class == media.Script || class == media.Style) {
		list = marksOf(token)
	}

	if at := strings.LastIndexAny(stem, "_~"); at > 0 && len(stem)-at > shortest && allOf(stem[at+1:], hex) {
		list = append(list, marksOf(stem[at+1:])...)
	}
	return list
}

// last returns what stands behind the last dash or dot that leaves enough; all
// of the stem if none does.
func last(stem string) string {
	for at := len(stem) - 1 - shortest; at >= 0; at-- {
		if stem[at] == '-' || stem[at] == '.' {
			return stem[at+1:]
		}
	}
	return stem
}

// marksOf makes the marks of one token: one for each alphabet that it could be
// written in.
func marksOf(token string) []mark {
	if !allOf(token, base64URL) {
		return nil
	}
	seen := shapeOf(token)
	if seen == word && !allOf(token, alphabet(upper)) {
		return nil
	}

	both := strings.ContainsAny(token, digits) && strings.ContainsAny(token, upper)
	kinds := strings.ContainsAny(token, lower) && (both || changesIn(token) > len(token)/2)
	capitals := both && allOf(token, alphabet(digits+upper))
	var list []mark
	for _, a := range []alphabet{hex, base32, base36, base38, base64URL} {
		if a == base32 && len(token) != 8 || !allOf(token, a) {
			continue
		}
		shape := seen
		// One in five digests in base32 has no digit.
		if a == base32 {
			shape = max(shape, doubtful)
		}
		if shape == random && isCertain(token, a) {
			shape = certain
		}
		if shape > word {
			list = append(list, mark{form{a, len(token)}, shape, kinds, capitals})
		}
	}
	return list
}

// Words and numbers as people write them into the names of files.
var (
	// the parts between dashes and underscores: fares, Fares, v2, 2026, 3d, 800x600
	wordPart = regexp.MustCompile(`^(?:[A-Za-z][a-z]*\d*|[A-Z]+\d*|\d+[A-Za-z]{0,2}|\d+x\d+)$`)
	// dates: 20261128, 2024dec31, 31Dec2024
	date = regexp.MustCompile(`^(?:(?:19|20)\d{6}\d*|` +
		`(?i:\d{1,4}(?:jan|feb|mar|apr|may|jun|jul|aug|sep|oct|nov|dec)[a-z]{0,6}\d{1,4}))$`)
	uuid = regexp.MustCompile(`(?:^|[-._])[0-9a-f]{8}(?:-[0-9a-f]{4}){3}-[0-9a-f]{12}$`)
	// lazyLoad, iPhone15, TreeView
	camel = regexp.MustCompile(`^[A-Z]?[a-z]+(?:[A-Z][a-z]+)+\d*[A-Za-z]?$`)
	// word2, MODEL3XL, 42nd
	numbered = regexp.MustCompile(`^(?:[a-z]+\d+|[A-Z]+\d+[A-Z]{0,2}|\d+[a-zA-Z]{1,2}|\d+)$`)
)

// shapeOf says what a token looks like, short of certain.
func shapeOf(token string) shape {
	switch {
	case isMixed(token) && !date.MatchString(token):
		return random // as nearly all hexadecimal digests are: spared the rest
	case token[0] <= '9' && date.MatchString(token):
		return word
	case numbered.MatchString(token), camel.MatchString(token):
		return doubtful
	case ofWords(token, wordPart):
		return word
	case ofWords(token, wordPart, camel):
		return doubtful
	}
	return random
}

// isMixed reports whether some part of a token has letters between digits, as no
// word and no number has but a size in pixels.
func isMixed(token string) bool {
	digit, between := false, 0
	for i := range len(token) {
		c := token[i]
		switch {
		case c == '-' || c == '_':
			digit, between = false, 0
		case c >= '0' && c <= '9':
			if digit && (between > 1 || between == 1 && token[i-1] != 'x') {
				return true
			}
			digit, between = true, 0
		default:
			between++
		}
	}
	return false
}

// ofWords reports whether all parts of a token, as dashes and underscores divide
// it, are words or numbers of the given kinds.
func ofWords(token string, kinds ...*regexp.Regexp) bool {
	for part := range strings.FieldsFuncSeq(token, func(c rune) bool { return c == '-' || c == '_' }) {
		if !slices.ContainsFunc(kinds, func(kind *regexp.Regexp) bool { return kind.MatchString(part) }) {
			return false
		}
	}
	return true
}

// isCertain reports whether a token that is no word can be nothing but a digest:
// its kinds of characters change too often. The numbers are chosen so that
// about two thirds of all digests of eight characters are certain.
func isCertain(token string, a alphabet) bool {
	changes := changesIn(token)
	hasDigit, hasLower := strings.ContainsAny(token, digits), strings.ContainsAny(token, lower)
	hasUpper := strings.ContainsAny(token, upper)
	switch a {
	case hex:
		return hasDigit && hasLower && (changes >= 3 || changes == 2 && len(token) >= 12)
	case base32:
		return hasDigit && hasUpper && changes >= 2
	case base36, base38:
		return hasDigit && hasLower && changes >= 3 && longestRun(token) <= 3
	}
	return hasDigit && hasLower && hasUpper && changes >= 4+(len(token)-shortest)/4
}

// changesIn counts how often the kind of character changes along a token.
func changesIn(token string) int {
	kind := func(c byte) int {
		switch {
		case c >= '0' && c <= '9':
			return 1
		case c >= 'a' && c <= 'z':
			return 2
		case c >= 'A' && c <= 'Z':
			return 3
		}
		return 4
	}
	changes := 0
	for i := 1; i < len(token); i++ {
		if kind(token[i]) != kind(token[i-1]) {
			changes++
		}
	}
	return changes
}

// longestRun is the length of the longest run of letters.
func longestRun(token string) int {
	longest, run := 0, 0
	for i := range len(token) {
		if run++; token[i] < 'A' || token[i] == '_' { // a digit or a sign
			run = 0
		}
		longest = max(longest, run)
	}
	return longest
}

// qualifiers are what stands behind a digest: app.8f3a2b1c.min.js.
var qualifiers = []string{".min", ".chunk", ".bundle", ".lean", ".module", ".esm", ".umd", ".iife", ".prod",
	".worker", ".legacy", ".global", ".modern"}

// What stands behind the digests of pictures.
var (
	// hero.8f3a2b1c-600w, hero.8f3a2b1c@2x
	size = regexp.MustCompile(`(?:-\d{2,4}w?|-\d+x\d+|@[23]x)$`)
	// a picture that was made of another one, whose digest comes first:
	// ferry.D4x_9kQz_Z1abcdE
	derived = regexp.MustCompile(`^(.+[.-][0-9A-Za-z_-]{8})_[0-9A-Za-z]{4,7}$`)
	// one of several sizes of a picture: xHf-_Q2sJ1-600
	sized = regexp.MustCompile(`^([0-9A-Za-z_-]{10})-\d{2,4}$`)
)

// longest runs of hexadecimal digits tell a digest by themselves from this
// length on.
const long = 16

// longDigest reports whether a stem has a digest that is long enough to be one
// wherever it stands: behind hu, or between characters that are no letters or
// digits.
func longDigest(stem string) bool {
	for start := 0; len(stem)-start >= long; {
		end := start
		for end < len(stem) && isWordByte(stem[end]) {
			end++
		}
		run := strings.TrimPrefix(stem[start:end], "hu")
		if len(run) >= long && allOf(run, hex) && strings.ContainsAny(run, digits) &&
			strings.ContainsAny(run, lower) {
			return true
		}
		start = end + 1
	}
	return false
}

// isWordByte reports whether a byte is a letter or a digit of ASCII.
func isWordByte(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'z' || c >= 'A' && c <= 'Z'
}

// sharedDigest returns the digest that begins the name of a picture in one of
// several sizes; "" for none.
func sharedDigest(stem string) string {
	if len(stem) < 13 || len(stem) > 15 {
		return ""
	}
	if match := sized.FindStringSubmatch(stem); match != nil && shapeOf(match[1]) == random {
		return match[1]
	}
	return ""
}

// ofServiceWorker reports whether a stem is a service worker's, with or without
// a digest behind it.
func ofServiceWorker(stem string) bool {
	if known := strings.ToLower(stem); !strings.Contains(known, "sw") && !strings.Contains(known, "worker") {
		return false
	}
	for at := range len(stem) {
		if (stem[at] == '-' || stem[at] == '.') && media.IsServiceWorker(stem[:at]) {
			return true
		}
	}
	return media.IsServiceWorker(stem)
}

// trim takes off a stem what build tools put behind the digest.
func trim(stem string, class media.Class) string {
	for again := strings.Contains(stem, "."); again; {
		again = false
		for _, qualifier := range qualifiers {
			if rest, ok := strings.CutSuffix(stem, qualifier); ok {
				stem, again = rest, true
			}
		}
	}

	switch class {
	case media.Font:
		return strings.TrimSuffix(strings.TrimSuffix(stem, ".p"), "-s")
	case media.Image:
		if stem == "" {
			return ""
		}
		if last := stem[len(stem)-1]; last <= '9' || last == 'w' || last == 'x' {
			stem = size.ReplaceAllString(stem, "")
		}
		if !strings.Contains(stem, "_") {
			return stem
		}
		if match := derived.FindStringSubmatch(stem); match != nil {
			return match[1]
		}
	}
	return stem
}

// Family returns what is left of the path of a script or a style sheet before and behind
// the digest in its name: what its next version will share with it.
//
//	assets/index-4-jA9vrI.css         "assets/index-"     ".css"
//	static/js/main.8f3a2b1c.chunk.js  "static/js/main."   ".chunk.js"
//
// It returns false where the name is nothing but a digest, or where none is seen.
func Family(name string) (before, behind string, ok bool) {
	class := media.ClassOf(name)
	if class != media.Script && class != media.Style || media.IsCompanion(name) {
		return "", "", false
	}
	stem, extension := media.Split(name)
	start, end := len(name)-len(stem)-len(extension), len(name)-len(extension)
	trimmed := trim(stem, class)
	token := last(trimmed)
	// A digest behind an underscore is hexadecimal; the dash before it divides words.
	if at := strings.LastIndexAny(trimmed, "_~"); at > 0 && len(trimmed)-at > shortest &&
		allOf(trimmed[at+1:], hex) {
		token = trimmed[at+1:]
	}
	if len(token) < shortest || len(token) == len(trimmed) || len(marksOf(token)) == 0 && !longDigest(token) {
		return "", "", false
	}
	end -= len(stem) - len(trimmed)
	return name[:start+len(trimmed)-len(token)], name[end:], true
}
