package project

import (
	"strconv"
	"strings"

	"github.com/goccy/go-yaml/ast"

	"orilla.example/orilla/internal/core/pictures"
)

// The views of pages, unless a project says otherwise: a telephone and a laptop.
const (
	phoneWidth  = 390
	laptopWidth = 1280
)

// Views are the views in which pages are shown.
func (p Pictures) Views() []pictures.View {
	widths, schemes := p.Widths, p.Schemes
	if len(widths) == 0 {
		widths = []int{phoneWidth, laptopWidth}
	}
	if len(schemes) == 0 {
		schemes = []string{pictures.Light}
	}
	return pictures.Views(widths, schemes)
}

// Selectors go into a style sheet of the page, so what would end a rule is no part of one. That is for
// mistakes, not against strangers: a page can hide of itself what it likes.

// pictureKeys are the keys below pictures.
func pictureKeys(p *parse, v *Pictures) keys {
	return keys{
		"pages": p.list(&v.Pages, func(node ast.Node, value string) {
			if !strings.HasPrefix(value, "/") || strings.ContainsAny(value, "*#") {
				p.at(node, "not the path of a page: %q; write /fares", value)
			}
		}),
		"widths": widthsTo(p, &v.Widths),
		"schemes": p.list(&v.Schemes, func(node ast.Node, value string) {
			if value != pictures.Light && value != pictures.Dark {
				p.at(node, "unknown scheme %q; write light or dark", value)
			}
		}),
		"ignore": p.list(&v.Ignore, func(node ast.Node, value string) {
			if strings.TrimSpace(value) == "" || strings.ContainsAny(value, "{}<@;") {
				p.at(node, "not a CSS selector: %q; write .clock, or #news img", value)
			}
		}),
	}
}

// widthsTo reads a list of widths.
func widthsTo(p *parse, to *[]int) func(ast.Node) {
	return func(node ast.Node) {
		var texts []string
		p.list(&texts, func(node ast.Node, value string) {
			if width, err := strconv.Atoi(value); err != nil || width < pictures.LeastWidth ||
				width > pictures.MostWidth {
				p.at(
					node,
					"not a width in pixels, from %d to %d: %q",
					pictures.LeastWidth,
					pictures.MostWidth,
					value,
				)
			}
		})(node)
		for _, text := range texts {
			width, _ := strconv.Atoi(text) // it was checked
			*to = append(*to, width)
		}
	}
}
