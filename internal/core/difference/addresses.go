package difference

import (
	"context"
	"net/http"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/address"
	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
)

// Addresses returns the paths whose answer differs between two
// sides, escaped and with the base path, in order: those of files,
// and of rules without placeholders. patterns are the rules with
// placeholders that only one side has: each answers at any number
// of addresses. Answers are compared by status, content and header
// fields, as a visitor without cookies gets them in production.
func Addresses(ctx context.Context, before, after Side) (paths, patterns []string, err error) {
	differ, ordered := compareRules(before.Rules, after.Rules)
	// Each address is asked on both sides, as a visitor would; what a rule
	// changes is then found without understanding the rule.
	asked := map[string]bool{}
	everything := len(differ) > 0 || ordered || len(settings(before.Site.Settings, after.Site.Settings)) > 0
	add := func(file string) {
		asked["/"+strings.TrimPrefix(address.Encode(strings.Split(file, "/"), false), "/")] = true
		asked[answer.Address(file)] = true
	}

	if everything {
		for _, list := range [][]release.File{before.Files, after.Files} {
			for _, file := range list {
				add(file.Path)
			}
		}
	} else {
		for _, item := range changes(before.Files, after.Files) {
			add(item.Path)
		}
	}

	for _, list := range [][]rules.Rule{before.Rules, after.Rules} {
		for i := range list {
			if rule := &list[i]; rule.Pattern.IsLiteral() {
				asked[address.Encode(rule.Pattern.Literal(), false)] = true
				asked[address.Encode(rule.Pattern.Literal(), true)] = true
			}
		}
	}

	// A pattern stands for more addresses than can be asked, so it is told as
	// it is.
	for _, rule := range differ {
		if strings.Contains(rule.Text, "{") && !slices.Contains(patterns, rule.Text) {
			patterns = append(patterns, rule.Text)
		}
	}

	for path := range asked {
		old, err := ask(ctx, before, path)
		if err != nil {
			return nil, nil, err
		}
		next, err := ask(ctx, after, path)
		if err != nil {
			return nil, nil, err
		}

		if !SameAnswer(old, next) {
			paths = append(paths, after.Base+path)
		}
	}
	slices.Sort(paths)
	return paths, patterns, nil
}

// ask returns what a visitor gets at a path of one side, over HTTPS and as in
// production: differences that only a password or a preview makes are none of
// the releases.
func ask(ctx context.Context, side Side, path string) (answer.Answer, error) {
	return answer.Decide(ctx, answer.Request{Method: http.MethodGet, Path: side.Base + path, Base: side.Base,
		Environment: answer.Production, Scheme: "https", Now: side.Now}, side.Site)
}

// SameAnswer reports whether two answers are the same for who gets them.
func SameAnswer(a, b answer.Answer) bool {
	if a.Status != b.Status || a.Location != b.Location || a.Text != b.Text || a.ETag != b.ETag ||
		(a.File == nil) != (b.File == nil) || (a.Upstream == nil) != (b.Upstream == nil) {
		return false
	}
	if a.File != nil && a.File.Digest != b.File.Digest ||
		a.Upstream != nil && a.Upstream.Where() != b.Upstream.Where() {
		return false
	}
	return slices.EqualFunc(a.Header, b.Header,
		func(x, y answer.Field) bool { return x.Name == y.Name && x.Value == y.Value })
}
