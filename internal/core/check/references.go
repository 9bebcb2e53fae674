package check

import (
	"bytes"
	"encoding/json"
	"io"
	"net/http"
	"strings"

	"github.com/tdewolff/parse/v2"
	"github.com/tdewolff/parse/v2/css"
	"golang.org/x/net/html"
	"golang.org/x/net/html/atom"
)

// kind says what a page needs something for.
type kind string

const (
	aPage   kind = "page"
	aScript kind = "script"
	aStyle  kind = "style sheet"
	anImage kind = "image"
	aFont   kind = "font"
	aFile   kind = "file"
	aVideo  kind = "video"
	aSound  kind = "audio file"
	aMedium kind = "media file" // a video's or audio file's, which its element says
	aTrack  kind = "text track"
	aForm   kind = "form" // whose content is sent with POST
)

// reference is an address that a file names.
type reference struct {
	kind   kind
	target string // as it is written
	line   int    // from 1
}

// page is what a page loads and links to, as its HTML says.
type page struct {
	references []reference
	base       string // of its base element
	icon       bool   // it names an icon
	text       bool   // it shows text, also without scripts
}

// readPage lists the addresses that an HTML page names.
func readPage(data []byte) page {
	var p page
	tokens := html.NewTokenizer(bytes.NewReader(data))
	line, hidden := 1, atom.Atom(0)
	for {
		kind := tokens.Next()
		raw := tokens.Raw()
		at := line
		line += bytes.Count(raw, []byte("\n"))

		switch kind {
		case html.ErrorToken:
			return p
		case html.TextToken:
			p.text = p.text || hidden == 0 && len(bytes.TrimSpace(raw)) > 0
		case html.EndTagToken:
			if name, _ := tokens.TagName(); atom.Lookup(name) == hidden {
				hidden = 0
			}
		case html.StartTagToken, html.SelfClosingTagToken:
			token := tokens.Token()
			p.element(token, at)
			if kind == html.StartTagToken && hidden == 0 && isHidden(token.DataAtom) {
				hidden = token.DataAtom
			}
			if token.DataAtom == atom.Style && kind == html.StartTagToken && tokens.Next() == html.TextToken {
				for _, ref := range readStyle(tokens.Raw()) {
					ref.line += line - 1
					p.references = append(p.references, ref)
				}
				line += bytes.Count(tokens.Raw(), []byte("\n"))
			}
		}
	}
}

// isHidden reports whether browsers that run scripts show nothing of what an
// element holds.
func isHidden(element atom.Atom) bool {
	switch element {
	case atom.Script, atom.Style, atom.Title, atom.Noscript, atom.Template:
		return true
	}
	return false
}

// kindOf returns what an element loads by its src.
func kindOf(element atom.Atom) kind {
	switch element {
	case atom.Video:
		return aVideo
	case atom.Audio:
		return aSound
	case atom.Source, atom.Embed:
		return aMedium
	case atom.Track:
		return aTrack
	}
	return anImage
}

// element takes what an element refers to: the attributes that HTML gives it
// for that (WHATWG HTML, section 2.4).
func (p *page) element(token html.Token, line int) {
	attributes := map[string]string{}
	for _, attribute := range token.Attr {
		attributes[attribute.Key] = attribute.Val
	}
	add := func(kind kind, target string) {
		if target = strings.TrimSpace(target); target != "" {
			p.references = append(p.references, reference{kind, target, line})
		}
	}

	for _, ref := range readStyle([]byte("a{" + attributes["style"] + "}")) {
		add(ref.kind, ref.target)
	}
	switch token.DataAtom {
	case atom.Base:
		if p.base == "" {
			p.base = strings.TrimSpace(attributes["href"])
		}
	case atom.A, atom.Area:
		if _, download := attributes["download"]; download {
			add(aFile, attributes["href"])
		} else {
			add(aPage, attributes["href"])
		}
	case atom.Iframe, atom.Frame:
		add(aPage, attributes["src"])
	case atom.Script:
		add(aScript, attributes["src"])
	case atom.Link:
		p.link(attributes, add)
	case atom.Img, atom.Source, atom.Video, atom.Audio, atom.Track, atom.Embed, atom.Input, atom.Image:
		add(kindOf(token.DataAtom), attributes["src"])
		add(anImage, attributes["poster"])
		for _, target := range sources(attributes["srcset"]) {
			add(anImage, target)
		}
	case atom.Object:
		add(aFile, attributes["data"])
	case atom.Form:
		// Without an address it goes to the page itself (WHATWG HTML, section
		// 4.10.21.3).
		if strings.EqualFold(strings.TrimSpace(attributes["method"]), http.MethodPost) {
			action := strings.TrimSpace(attributes["action"])
			p.references = append(p.references, reference{aForm, action, line})
		}
	}
}

// link takes what a link element loads. Relations that load nothing, such as
// canonical and next, are left out.
func (p *page) link(attributes map[string]string, add func(kind, string)) {
	for rel := range strings.FieldsSeq(strings.ToLower(attributes["rel"])) {
		switch rel {
		case "stylesheet":
			add(aStyle, attributes["href"])
		case "icon", "apple-touch-icon":
			p.icon = true
			add(anImage, attributes["href"])
		case "modulepreload":
			add(aScript, attributes["href"])
		case "preload", "manifest":
			add(aFile, attributes["href"])
		case "next", "prev", "alternate":
			add(aPage, attributes["href"])
		default:
			continue
		}
		return
	}
}

// sources reads a srcset: addresses, each with an optional width or density.
func sources(set string) []string {
	var list []string
	for {
		set = strings.TrimLeft(set, " \t\r\n\f,")
		if set == "" {
			return list
		}
		end := strings.IndexAny(set, " \t\r\n\f")
		if end < 0 {
			return append(list, strings.TrimRight(set, ","))
		}

		address := set[:end]
		set = set[end:]
		list = append(list, strings.TrimRight(address, ","))
		if strings.HasSuffix(address, ",") {
			continue
		}

		comma := strings.IndexByte(set, ',')
		if comma < 0 {
			return list
		}
		set = set[comma+1:]
	}
}

// readManifest lists the addresses that a web application's manifest names (W3C
// Web Application Manifest): where it starts, and its pictures.
func readManifest(data []byte) []reference {
	type picture struct {
		Src string `json:"src"`
	}
	var manifest struct {
		StartURL    string    `json:"start_url"`
		Icons       []picture `json:"icons"`
		Screenshots []picture `json:"screenshots"`
	}
	if json.Unmarshal(data, &manifest) != nil {
		return nil
	}

	var list []reference
	if manifest.StartURL != "" {
		list = append(list, reference{kind: aPage, target: manifest.StartURL,
			line: lineOf(data, manifest.StartURL)})
	}

	for _, one := range append(manifest.Icons, manifest.Screenshots...) {
		if one.Src != "" {
			list = append(list, reference{kind: anImage, target: one.Src, line: lineOf(data, one.Src)})
		}
	}
	return list
}

// lineOf returns the line on which a text first stands.
func lineOf(data []byte, text string) int {
	return 1 + bytes.Count(data[:max(0, bytes.Index(data, []byte(text)))], []byte("\n"))
}

// readStyle lists the addresses that a style sheet names: url() and @import.
func readStyle(data []byte) []reference {
	if !bytes.Contains(data, []byte("url(")) && !bytes.Contains(data, []byte("@import")) &&
		!bytes.Contains(data, []byte("URL(")) {
		return nil
	}
	var list []reference
	lexer := css.NewLexer(parse.NewInput(io.NopCloser(bytes.NewReader(data))))
	line, imports, font := 1, false, false
	for {
		kind, text := lexer.Next()
		switch kind {
		case css.ErrorToken:
			return list
		case css.AtKeywordToken:
			imports = strings.EqualFold(string(text), "@import")
			font = strings.EqualFold(string(text), "@font-face")
		case css.RightBraceToken:
			font = false
		case css.SemicolonToken:
			imports = false
		case css.URLToken:
			// the end of the file closes it too
			inner := strings.TrimSpace(strings.TrimSuffix(string(text[min(4, len(text)):]), ")"))
			list = append(list, reference{styled(imports, font), unquote(inner), line})
			imports = false
		case css.StringToken:
			if imports {
				list = append(list, reference{aStyle, unquote(string(text)), line})
				imports = false
			}
		}
		line += bytes.Count(text, []byte("\n"))
	}
}

// styled says what kind of thing a url() of a style sheet loads, from where in
// the sheet it stands.
func styled(imports, font bool) kind {
	switch {
	case imports:
		return aStyle
	case font:
		return aFont
	}
	return anImage
}

// unquote takes the quotation marks off a string of a style sheet, and the
// backslashes of its escapes.
func unquote(text string) string {
	if len(text) >= 2 && (text[0] == '"' || text[0] == '\'') && text[len(text)-1] == text[0] {
		text = text[1 : len(text)-1]
	}
	return strings.ReplaceAll(text, `\`, "")
}
