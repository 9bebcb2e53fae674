// Package media knows the media types of the files that sites consist of, and
// which kinds of files are pages, assets or documents.
//
//	media.Type("planner/app.js", true)         // "text/javascript; charset=utf-8"
//	media.ClassOf("fonts/corvane.woff2")       // Font
//	media.Fingerprinted("app.3f9a1c2b.js")     // true: the name tells the content
//
// The table is in the binary, so that a type never depends on the machine (not on
// /etc/mime.types, nor on the Windows registry); what a release was given is kept
// in its index. So the table may grow without changing what is live: an extension
// that is added counts for releases made from then on.
package media

import (
	"bytes"
	"path"
	"strings"
	"unicode/utf8"
)

// Class groups types by what a site does with them.
type Class int

// The classes. Only those from Style on can be served as immutable assets.
const (
	Unknown  Class = iota
	Page           // what a visitor opens
	Feed           // what programs poll at a lasting address
	Data           // what scripts fetch at a lasting address
	Document       // PDF and the like: linked to from elsewhere
	Archive
	Style
	Script
	Font
	Image
	Media // sound and moving pictures
	Binary
)

// kind is what an extension stands for.
type kind struct {
	mediaType string
	class     Class
}

// table maps a lower-case extension to its type. Types are those registered
// with IANA; text/javascript follows RFC 9239.
var table = map[string]kind{
	".html": {"text/html", Page}, ".htm": {"text/html", Page}, ".xhtml": {"application/xhtml+xml", Page},
	".rss": {"application/rss+xml", Feed}, ".atom": {"application/atom+xml", Feed},
	".xml":  {"application/xml", Feed},
	".ics":  {"text/calendar", Feed},
	".json": {"application/json", Data}, ".jsonld": {"application/ld+json", Data},
	".geojson": {"application/geo+json", Data},
	".csv":     {"text/csv", Data}, ".tsv": {"text/tab-separated-values", Data}, ".txt": {"text/plain", Data},
	".md": {"text/markdown", Data}, ".yaml": {"application/yaml", Data}, ".yml": {"application/yaml", Data},
	".toml": {"application/toml", Data}, ".vtt": {"text/vtt", Data}, ".srt": {"application/x-subrip", Data},
	".webmanifest": {"application/manifest+json", Data}, ".topojson": {"application/json", Data},
	".gpx": {"application/gpx+xml", Data}, ".kml": {"application/vnd.google-earth.kml+xml", Data},
	".vcf": {"text/vcard", Data},
	".pem": {"application/x-pem-file", Data}, ".asc": {"text/plain", Data},
	".sig": {"application/pgp-signature", Data},
	".pdf": {"application/pdf", Document}, ".epub": {"application/epub+zip", Document},
	".rtf":  {"application/rtf", Document},
	".docx": {"application/vnd.openxmlformats-officedocument.wordprocessingml.document", Document},
	".xlsx": {"application/vnd.openxmlformats-officedocument.spreadsheetml.sheet", Document},
	".pptx": {"application/vnd.openxmlformats-officedocument.presentationml.presentation", Document},
	".odt":  {"application/vnd.oasis.opendocument.text", Document},
	".ods":  {"application/vnd.oasis.opendocument.spreadsheet", Document},
	".zip":  {"application/zip", Archive}, ".gz": {"application/gzip", Archive},
	".tar": {"application/x-tar", Archive},
	".tgz": {"application/gzip", Archive}, ".zst": {"application/zstd", Archive},
	".br":  {"application/octet-stream", Archive},
	".bz2": {"application/x-bzip2", Archive}, ".xz": {"application/x-xz", Archive},
	".7z":  {"application/x-7z-compressed", Archive},
	".css": {"text/css", Style},
	".js":  {"text/javascript", Script}, ".mjs": {"text/javascript", Script},
	".cjs": {"text/javascript", Script},
	".map": {"application/json", Script}, ".wasm": {"application/wasm", Script},
	".woff2": {"font/woff2", Font}, ".woff": {"font/woff", Font}, ".ttf": {"font/ttf", Font},
	".otf": {"font/otf", Font},
	".eot": {"application/vnd.ms-fontobject", Font},
	".svg": {"image/svg+xml", Image}, ".png": {"image/png", Image}, ".jpg": {"image/jpeg", Image},
	".jpeg": {"image/jpeg", Image},
	".gif":  {"image/gif", Image}, ".webp": {"image/webp", Image}, ".avif": {"image/avif", Image},
	".apng": {"image/apng", Image},
	".ico":  {"image/vnd.microsoft.icon", Image}, ".bmp": {"image/bmp", Image}, ".tif": {"image/tiff", Image},
	".tiff": {"image/tiff", Image}, ".jxl": {"image/jxl", Image}, ".heic": {"image/heic", Image},
	".mp4": {"video/mp4", Media}, ".webm": {"video/webm", Media}, ".mov": {"video/quicktime", Media},
	".m4v": {"video/mp4", Media},
	".mp3": {"audio/mpeg", Media}, ".ogg": {"audio/ogg", Media}, ".oga": {"audio/ogg", Media},
	".ogv":  {"video/ogg", Media},
	".opus": {"audio/ogg", Media}, ".wav": {"audio/wav", Media}, ".flac": {"audio/flac", Media},
	".m4a": {"audio/mp4", Media},
	".aac": {"audio/aac", Media}, ".m3u8": {"application/vnd.apple.mpegurl", Data},
	".ts":  {"video/mp2t", Media},
	".glb": {"model/gltf-binary", Binary}, ".gltf": {"model/gltf+json", Binary},
	".bin": {"application/octet-stream", Binary},
	".pbf": {"application/x-protobuf", Binary}, ".pmtiles": {"application/vnd.pmtiles", Binary},
}

// byName has the files whose type cannot be told from an extension.
var byName = map[string]string{
	"apple-app-site-association": "application/json",
	"assetlinks.json":            "application/json",
}

// fallback is for what the table does not know.
const fallback = "application/octet-stream"

// Type returns the value of the Content-Type field for the file at name, a
// slash-separated path. text tells whether its bytes are valid UTF-8 without a
// NUL: only then a text type carries charset=utf-8, and only then a file
// without an extension counts as plain text.
func Type(name string, text bool) string {
	base := path.Base(name)
	if exact, ok := byName[base]; ok {
		return exact
	}
	extension := Extension(name)
	mediaType, ok := since2[extension]
	if known, is := table[extension]; is {
		mediaType, ok = known.mediaType, true
	}
	switch {
	case ok && text && takesCharset(mediaType):
		return mediaType + "; charset=utf-8"
	case ok:
		return mediaType
	case extension == "" && text:
		return "text/plain; charset=utf-8"
	}

	return fallback
}

// takesCharset reports whether the type's registration has a charset parameter
// that browsers heed. JSON has none (RFC 8259).
func takesCharset(mediaType string) bool {
	return strings.HasPrefix(mediaType, "text/") || mediaType == "application/xml" ||
		strings.HasSuffix(mediaType, "+xml")
}

// Extension returns the lower-case extension of the last segment with its dot,
// or "". A leading dot starts no extension.
func Extension(name string) string {
	_, extension := Split(name)
	return extension
}

// Split returns the last segment without its extension, and the lower-case
// extension, which may have another length than as it is written.
func Split(name string) (stem, extension string) {
	base := path.Base(name)
	if at := strings.LastIndexByte(base, '.'); at > 0 {
		return base[:at], strings.ToLower(base[at:])
	}
	return base, ""
}

// ClassOf returns the class of the file at name, by its extension.
func ClassOf(name string) Class { return table[Extension(name)].class }

// since2 are extensions that semantics 2 knows besides, of files that are no pages, with
// their types. They are not in the table: it says what semantics 1 knows.
var since2 = map[string]string{
	".avi": "video/x-msvideo", ".mkv": "video/matroska", ".mpeg": "video/mpeg", ".mpg": "video/mpeg",
	".3gp": "video/3gpp", ".mid": "audio/midi", ".weba": "audio/webm",
	".cur": "image/vnd.microsoft.icon", ".jfif": "image/jpeg", ".svgz": "image/svg+xml",
	".psd": "image/vnd.adobe.photoshop",
	".apk": "application/vnd.android.package-archive", ".dmg": "application/x-apple-diskimage",
	".exe": "application/vnd.microsoft.portable-executable", ".msi": "application/x-msi",
	".deb": "application/vnd.debian.binary-package", ".rpm": "application/x-rpm",
	".iso": "application/vnd.efi.iso", ".rar": "application/vnd.rar", ".jar": "application/java-archive",
	".log": "text/plain", ".doc": "application/msword", ".xls": "application/vnd.ms-excel",
	".ppt": "application/vnd.ms-powerpoint", ".ps": "application/postscript",
	".eps": "application/postscript",
	".odp": "application/vnd.oasis.opendocument.presentation", ".ttc": "font/collection",
	".sql": "application/sql", ".wat": "text/plain", ".usdz": "model/vnd.usdz+zip", ".stl": "model/stl",
}

// KnownSince2 reports whether the extension of name is one that semantics 2
// knows and semantics 1 does not.
func KnownSince2(name string) bool { return since2[Extension(name)] != "" }

// Known reports whether the table has the extension of name.
func Known(name string) bool { return ClassOf(name) != Unknown }

// IsText reports whether data is valid UTF-8 without a NUL.
func IsText(data []byte) bool {
	return bytes.IndexByte(data, 0) < 0 && utf8.Valid(data)
}

// IsLoaded reports whether the file at name is one that pages load while they are
// shown: a script or what goes with it, a style sheet, a font, an image or a web
// application's manifest.
func IsLoaded(name string) bool {
	switch ClassOf(name) {
	case Style, Script, Font, Image:
		return true
	}
	return Extension(name) == ".webmanifest"
}

// companions are the ends of files that go with a script or a style sheet, and
// are named after it.
var companions = []string{".map", ".LICENSE.txt", ".br", ".gz", ".zst"}

// IsCompanion reports whether the file at name goes with a script or a style sheet
// as a build tool names it: app.js.map, app.js.LICENSE.txt, app.css.br. It may
// change while that stays the same: a source map has the comments too.
func IsCompanion(name string) bool {
	for _, end := range companions {
		if of, ok := strings.CutSuffix(name, end); ok && (ClassOf(of) == Script || ClassOf(of) == Style) {
			return true
		}
	}
	return false
}

// Fingerprinted reports whether the name of a file tells its
// content, for releases of semantics 1 (others hold a list, made by
// package fingerprint): the last part before the extension, divided by dots and
// dashes, has eight or more letters, digits or underscores with at
// least one letter and one digit, and the file is no page, feed,
// data, document or service worker, whose addresses last.
func Fingerprinted(name string) bool {
	switch ClassOf(name) {
	case Page, Feed, Data, Document:
		return false
	}
	stem, extension := Split(name)
	at := strings.LastIndexAny(stem, ".-")
	if extension == "" || at <= 0 || IsServiceWorker(stem[:at]) {
		return false
	}
	return looksHashed(stem[at+1:])
}

// looksHashed reports whether a part of a file's name looks like a digest of
// its content: long, of letters and digits, with enough of both that no word or
// year is taken for one.
func looksHashed(part string) bool {
	letters, digits := 0, 0
	for _, c := range part {
		switch {
		case c >= '0' && c <= '9':
			digits++
		case c >= 'a' && c <= 'z', c >= 'A' && c <= 'Z':
			letters++
		case c != '_':
			return false
		}
	}
	return len(part) >= 8 && letters > 0 && digits > 0
}

// IsServiceWorker reports whether a script is, by its name, one that stays
// installed in browsers. Kept for a year, an old one would go on answering from
// its own cache.
func IsServiceWorker(stem string) bool {
	stem = strings.ToLower(stem)
	if stem == "sw" || strings.HasSuffix(stem, "-sw") || strings.HasSuffix(stem, ".sw") {
		return true
	}
	return strings.Contains(strings.NewReplacer("-", "", "_", "", ".", "").Replace(stem), "serviceworker")
}
