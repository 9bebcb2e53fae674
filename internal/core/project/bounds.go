package project

import (
	"fmt"

	"github.com/goccy/go-yaml/ast"

	"orilla.example/orilla/internal/core/fault"
)

// Bounds on a configuration: whoever proposes a change writes one, and it is
// read before anything holds it.
const (
	largestConfig = 256 << 10 // bytes
	mostNodes     = 100_000   // values, each alias counted as all that it stands for
	deepestConfig = 100       // levels
)

// tooLarge is the error for a configuration that is none.
func tooLarge(name, what string) error {
	return fault.New(fault.Usage, "config", "the configuration is too large: %s", what).At("%s", name).
		Then("a configuration has a few dozen lines; is this the right file?")
}

// checkText refuses what should not even be parsed.
func checkText(data []byte, name string) error {
	if len(data) > largestConfig {
		return tooLarge(name, fmt.Sprintf("over %d kB", largestConfig>>10))
	}
	depth, deepest := 0, 0
	for _, c := range data { // brackets in texts count too: it is a bound, no parser
		switch c {
		case '[', '{':
			depth++
		case ']', '}':
			depth--
		}
		deepest = max(deepest, depth)
	}

	if deepest > deepestConfig {
		return tooLarge(name, fmt.Sprintf("over %d levels", deepestConfig))
	}
	return nil
}

// sizes counts the values of a document.
type sizes struct{ anchors map[string]int }

// of returns how many values a node stands for, aliases expanded; more than
// mostNodes if that is too many, or has no end.
func (s sizes) of(node ast.Node, depth int) int {
	if depth > deepestConfig {
		return mostNodes + 1
	}
	total := 1

	add := func(below ast.Node) {
		if below != nil && total <= mostNodes {
			total += s.of(below, depth+1)
		}
	}

	switch node := node.(type) {
	case *ast.MappingNode:
		for _, pair := range node.Values {
			add(pair)
		}
	case *ast.MappingValueNode:
		add(node.Value)
	case *ast.SequenceNode:
		for _, value := range node.Values {
			add(value)
		}
	case *ast.TagNode:
		add(node.Value)
	case *ast.AnchorNode:
		name := node.Name.GetToken().Value
		s.anchors[name] = mostNodes + 1 // an alias to itself has no end
		add(node.Value)
		s.anchors[name] = total
	case *ast.AliasNode:
		total += s.anchors[node.Value.GetToken().Value]
	}

	return total
}
