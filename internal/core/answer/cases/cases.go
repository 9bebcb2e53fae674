// Package cases is one table of requests and their answers. The pure function,
// local serving and edge nodes are all held to it, so that none of them answers
// differently.
//
// A case is added here, never to the test of one server alone: what one of them
// does and another does not is by definition a fault.
package cases

import "time"

// Files is the release, by path; the content of each file is its path.
var Files = []string{
	"index.html", "404.html", "fares.html", "fares/strike/index.html", "sailings/index.html",
	"sailings/winter/index.html", "sailings/summer/index.html",
	"notices/2025/quay-works.html", "boats/dunlin.html", "planner/index.html", "planner/app-3f9a2c1b7e.js",
	"fonts/sans.woff2", "fonts/sans-0a1b2c3d4e.woff2",
	"gl/index.html", "gl/404.html", "embed/map.html", "both.html", "both/index.html",
	"downloads/timetable.pdf", "maintenance.html", "café/ö.html", "flash.html",
	"errors/gone.html",
}

// Languages are those of the site.
var Languages = []string{"en", "gl"}

// TimeZone is that of the site.
const TimeZone = "Atlantic/Azores"

// Rules is the site's rules file. Every line is there for a case below.
const Rules = `
redirect  /timetable/{season}                       -> /sailings/{season}
redirect  /news/{year:digits}/{month}/{day}/{slug}  -> /notices/{year}/{slug}
redirect  /boat.php                                 -> /boats/{id}                   when query id={id}
redirect  /line.php                                 -> /lines/{no}?from={from}#times when query no={no:digits} and query from={from}
redirect  /shop/{rest:all}                          -> https://shop.corvane.example/{rest}  with 302
redirect  /search                                   -> /find?                        with 303
redirect  /find                                     -> /search-all?site=ferries
redirect  /                                         -> /gl/                          with 302 when language gl and not cookie lang
redirect  /fares                                    -> /fares/strike/                with 307 when from 2026-12-20 through 2027-01-02
redirect  /both.html                                -> /both/
redirect  /self/{x}                                 -> /self/{x}
redirect  /up/{x:all}                               -> /down/{x}
redirect  /map-{id:digits}.pdf                      -> /maps/{id}
redirect  /{lang:es|fr}/{rest:all}                  -> /{rest}                       with 308
redirect  /m/{rest:all}                             -> /{rest}                       when host m.corvane.example
redirect  /old%20caf%C3%A9                          -> /café/ö
redirect  /preview-only                             -> /sailings/                    when not environment production
rewrite   /sailings/today                           -> /sailings/summer/
rewrite   /closed                                   -> /maintenance                  with 503
rewrite   /nothing-there                            -> /not/there
proxy     /api/{rest:all}                           -> harbour:/v1/{rest}
gone      /fares-2019/{rest:all}
fallback  /planner/{rest:all}                       -> /planner/
fallback  /tiles/{z}/{x}.json                       -> /downloads/timetable.pdf
missing   /gl/{rest:all}                            -> /gl/404
missing   /fares-2019/{rest:all}                    -> /errors/gone
header    /fonts/{file}.woff2                       access-control-allow-origin: *
header    /{rest:all}                               x-frame-options: DENY
withhold  /embed/{rest:all}                         x-frame-options
header    /downloads/{file}                         cache-control: public, max-age=3600
header    /downloads/{file}                         content-disposition: attachment
header    /boat.php  when status 301                cache-control: max-age=60
header    /flash     when cookie beta               x-flash: beta
header    /fonts/sans-0a1b2c3d4e.woff2  when from 2026-12-01T00:00 until 2026-12-20T00:00  x-season: advent
`

// Noon is when a request comes that says no time: a moment
// without any boundary near.
var Noon = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// Case is one request and what it must answer. Fields of the answer that are
// not named are not looked at, but for those of Without.
type Case struct {
	Name             string
	Method           string // "" for GET
	URL              string // path and query, as they are sent
	Host             string // "" for the site's own
	Language, Cookie string
	At               time.Time // the zero Time for Noon
	Preview          bool      // not production
	Status           int
	File             string // whose content is sent; "" to not look
	Location         string
	Upstream         string // what the upstream "harbour" is asked for; Status is then what it answers
	Header           map[string]string
	Without          []string
}

// List is the table.
var List = []Case{
	{Name: "a placeholder, and the final address of what it finds", URL: "/timetable/winter", Status: 301,
		Location: "/sailings/winter/"},
	{Name: "a final slash is ignored in matching", URL: "/timetable/winter/", Status: 301,
		Location: "/sailings/winter/"},
	{Name: "nothing at the target: as it is written", URL: "/timetable/autumn", Status: 301,
		Location: "/sailings/autumn"},
	{Name: "a placeholder is not empty", URL: "/timetable/", Status: 404, File: "404.html"},
	{Name: "a redirect answers every method", Method: "POST", URL: "/timetable/winter", Status: 301,
		Location: "/sailings/winter/"},
	{Name: "the query travels", URL: "/timetable/winter?b=%32&a=1&&b=x", Status: 301,
		Location: "/sailings/winter/?b=%32&a=1&b=x"},
	{Name: "digits", URL: "/news/2025/03/01/quay-works", Status: 301, Location: "/notices/2025/quay-works"},
	{Name: "digits only", URL: "/news/last/03/01/quay-works", Status: 404, File: "404.html"},
	{Name: "a bound parameter does not travel", URL: "/boat.php?id=dunlin&ref=mail&id=x", Status: 301,
		Location: "/boats/dunlin?ref=mail",
		Header:   map[string]string{"Cache-Control": "max-age=60"}},
	{Name: "a bound value is encoded again", URL: "/boat.php?id=a%2Fb%3F", Status: 301,
		Location: "/boats/a%2Fb%3F"},
	{Name: "a bound value that climbs", URL: "/boat.php?id=../admin", Status: 404, File: "404.html"},
	{Name: "a bound value with a line break", URL: "/boat.php?id=a%0d%0aset-cookie:x", Status: 404},
	{Name: "a parameter that is missing", URL: "/boat.php", Status: 404},
	{Name: "what the target sets comes first", URL: "/line.php?x=1&from=a%26b&no=7", Status: 301,
		Location: "/lines/7?from=a%26b&x=1#times"},
	{Name: "what is left, to another site", URL: "/shop/gifts/mugs/", Status: 302,
		Location: "https://shop.corvane.example/gifts/mugs/"},
	{Name: "nothing is left", URL: "/shop", Status: 302, Location: "https://shop.corvane.example/"},
	{Name: "what is left is encoded again", URL: "/shop/%2F%2Fevil.example/%5C", Status: 302,
		Location: "https://shop.corvane.example/%2F%2Fevil.example/%5C"},
	{Name: "a segment that climbs once decoded", URL: "/shop/..%2F..%2Fx", Status: 404},
	{Name: "a bare question mark drops the query", URL: "/search?q=boat", Status: 303, Location: "/find"},
	{Name: "a parameter of the target replaces the request's", URL: "/find?site=x&q=1", Status: 301,
		Location: "/search-all?site=ferries&q=1"},
	{Name: "by language", URL: "/", Language: "de, gl;q=0.8, en;q=0.5", Status: 302, Location: "/gl/",
		Header: map[string]string{"Vary": "Accept-Language, Cookie"}},
	{Name: "by language, but for a cookie", URL: "/", Language: "gl", Cookie: "a=1; lang=en", Status: 200,
		File:   "index.html",
		Header: map[string]string{"Vary": "Accept-Language, Cookie", "Cache-Control": "no-cache"}},
	{Name: "the default language", URL: "/", Language: "de", Status: 200, File: "index.html",
		Header: map[string]string{"Vary": "Accept-Language, Cookie"}},
	{Name: "a language refused", URL: "/", Language: "gl;q=0, en", Status: 200, File: "index.html"},
	{Name: "a language with a region", URL: "/", Language: "gl-ES", Status: 302, Location: "/gl/"},
	{Name: "before the day, in the site's time zone", URL: "/fares", At: time.Date(2026, 12, 20, 0, 59, 59, 0,
		time.UTC), Status: 200, File: "fares.html"},
	{Name: "from the day's first minute", URL: "/fares", At: time.Date(2026, 12, 20, 1, 0, 0, 0, time.UTC),
		Status: 307, Location: "/fares/strike/"},
	{Name: "through the last day", URL: "/fares", At: time.Date(2027, 1, 3, 0, 59, 59, 0, time.UTC),
		Status: 307, Location: "/fares/strike/"},
	{Name: "after the last day", URL: "/fares", At: time.Date(2027, 1, 3, 1, 0, 0, 0, time.UTC), Status: 200,
		File: "fares.html"},
	{Name: "one of two addresses of a page", URL: "/both.html", Status: 301, Location: "/both/"},
	{Name: "a redirect to itself does not apply", URL: "/self/x", Status: 404},
	{Name: "what is left keeps its slash", URL: "/up/a/b/", Status: 301, Location: "/down/a/b/"},
	{Name: "what is left has no slash to keep", URL: "/up/a/b", Status: 301, Location: "/down/a/b"},
	{Name: "a part of a segment", URL: "/map-12.pdf", Status: 301, Location: "/maps/12"},
	{Name: "a part of a segment that is no number", URL: "/map-x.pdf", Status: 404},
	{Name: "one of several", URL: "/fr/fares", Status: 308, Location: "/fares"},
	{Name: "one of several, and nothing else", URL: "/es", Status: 308, Location: "/"},
	{Name: "none of several", URL: "/de/fares", Status: 404},
	{Name: "by host", URL: "/m/fares", Host: "m.corvane.example", Status: 301, Location: "/fares"},
	{Name: "another host", URL: "/m/fares", Status: 404},
	{Name: "a literal matches however it is written", URL: "/old%20caf%c3%a9", Status: 301,
		Location: "/caf%C3%A9/%C3%B6"},
	{Name: "the same in another Unicode form", URL: "/old%20cafe%CC%81", Status: 301,
		Location: "/caf%C3%A9/%C3%B6"},
	{Name: "not in this environment", URL: "/preview-only", Status: 404},
	{Name: "in this environment", URL: "/preview-only", Preview: true, Status: 301, Location: "/sailings/",
		Header: map[string]string{"X-Robots-Tag": "noindex"}},
	{Name: "a rewrite", URL: "/sailings/today", Status: 200, File: "sailings/summer/index.html",
		Header: map[string]string{"Cache-Control": "no-cache"}},
	{Name: "a rewrite reads only", Method: "DELETE", URL: "/sailings/today", Status: 405,
		Header: map[string]string{"Allow": "GET, HEAD, OPTIONS"}},
	{Name: "a rewrite with a status", URL: "/closed", Status: 503, File: "maintenance.html",
		Header: map[string]string{"Cache-Control": "no-store"}},
	{Name: "a rewrite to nothing", URL: "/nothing-there", Status: 404, File: "404.html"},
	{Name: "an upstream", URL: "/api/tides/today?at=Sula&b=1", Status: 200,
		Upstream: "GET /v1/tides/today?at=Sula&b=1", Header: map[string]string{"X-Frame-Options": "DENY"}},
	{Name: "an upstream takes all methods", Method: "PATCH", URL: "/api/tides/", Status: 200,
		Upstream: "PATCH /v1/tides/"},
	{Name: "an upstream is not climbed", URL: "/api/..%2f..%2fadmin", Status: 404},
	{Name: "gone", URL: "/fares-2019/winter", Status: 410, File: "errors/gone.html",
		Header: map[string]string{"Cache-Control": "no-cache"}},
	{Name: "gone answers all methods", Method: "PUT", URL: "/fares-2019", Status: 410},
	{Name: "gone, a picture", URL: "/fares-2019/a.png", Status: 410,
		Header: map[string]string{"Content-Type": "text/plain; charset=utf-8"}},
	{Name: "a client-side route", URL: "/planner/by/boat", Status: 200, File: "planner/index.html",
		Header: map[string]string{"Cache-Control": "no-cache"}},
	{Name: "a client-side route with a slash", URL: "/planner/by/boat/", Status: 200,
		File: "planner/index.html"},
	{Name: "a client-side route reads only", Method: "POST", URL: "/planner/by/boat", Status: 405},
	{Name: "a file goes before a fallback", URL: "/planner/app-3f9a2c1b7e.js", Status: 200,
		File:   "planner/app-3f9a2c1b7e.js",
		Header: map[string]string{"Cache-Control": "public, max-age=31536000, immutable"}},
	{Name: "a missing script is no page", URL: "/planner/app-0000000a.js", Status: 404,
		Header: map[string]string{"Content-Type": "text/plain; charset=utf-8"}},
	{Name: "a fallback that names the extension", URL: "/tiles/3/7.json", Status: 200,
		File: "downloads/timetable.pdf"},
	{Name: "the not-found page, of a part of the site", URL: "/gl/nada", Status: 404,
		File: "gl/404.html"},
	{Name: "that page itself is missing", URL: "/gl/404", Status: 404, File: "gl/404.html"},
	{Name: "a not-found page elsewhere", URL: "/errors/gone", Status: 404,
		File: "errors/gone.html"},
	{Name: "a field for some files", URL: "/fonts/sans.woff2", Status: 200,
		Header: map[string]string{"Access-Control-Allow-Origin": "*", "X-Frame-Options": "DENY"}},
	{Name: "a preflight", Method: "OPTIONS", URL: "/fonts/sans.woff2", Status: 204,
		Header: map[string]string{"Access-Control-Allow-Origin": "*", "Allow": "GET, HEAD, OPTIONS"}},
	{Name: "a field taken away", URL: "/embed/map", Status: 200, File: "embed/map.html",
		Without: []string{"X-Frame-Options"}},
	{Name: "a field of the content", URL: "/downloads/timetable.pdf", Status: 200,
		Header: map[string]string{"Cache-Control": "public, max-age=3600",
			"Content-Disposition": "attachment"}},
	{Name: "a field of the content, but none is there", URL: "/downloads/other.pdf", Status: 404,
		Header: map[string]string{"Cache-Control": "no-cache"}, Without: []string{"Content-Disposition"}},
	{Name: "a field by cookie", URL: "/flash", Cookie: "beta=1", Status: 200,
		Header: map[string]string{"X-Flash": "beta", "Vary": "Cookie"}},
	{Name: "a field by cookie, without it", URL: "/flash", Status: 200,
		Header: map[string]string{"Vary": "Cookie"}, Without: []string{"X-Flash"}},
	{Name: "kept until the next boundary", URL: "/fonts/sans-0a1b2c3d4e.woff2",
		At: time.Date(2026, 12, 1, 0, 59, 0, 0, time.UTC), Status: 200,
		Header: map[string]string{"Cache-Control": "public, max-age=60"}, Without: []string{"X-Season"}},
	{Name: "in its time", URL: "/fonts/sans-0a1b2c3d4e.woff2", At: time.Date(2026, 12, 20, 0, 58, 0, 0,
		time.UTC), Status: 200,
		Header: map[string]string{"Cache-Control": "public, max-age=120", "X-Season": "advent"}},
	{Name: "after all boundaries", URL: "/fonts/sans-0a1b2c3d4e.woff2", At: time.Date(2027, 6, 1, 0, 0, 0, 0,
		time.UTC), Status: 200,
		Header: map[string]string{"Cache-Control": "public, max-age=31536000, immutable"}},
	{Name: "slashes in a row", URL: "/fares//strike/?a=1", Status: 301, Location: "/fares/strike/?a=1",
		Header: map[string]string{"X-Frame-Options": "DENY"}},
	{Name: "no Location outside the site", URL: "//evil.example/..%2f", Status: 301,
		Location: "/evil.example/..%2F"},
	{Name: "HEAD is as GET", Method: "HEAD", URL: "/fares", Status: 200,
		Header: map[string]string{"X-Frame-Options": "DENY"}},
}
