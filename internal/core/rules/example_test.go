package rules_test

import (
	"fmt"

	"orilla.example/orilla/internal/core/rules"
)

// A file of rules is parsed as a whole: what is right is there, and every mistake
// has its place.
func ExampleParse() {
	program, mistakes := rules.Parse([]rules.Source{{Name: "site.rules", Text: []byte(`
redirect  /timetable/{season}  -> /sailings/{season}
redirekt  /prices              -> /fares
expect    /timetable/winter    301 /sailings/winter
`)}}, rules.Options{})

	for _, rule := range program.Rules {
		fmt.Println(rule.String())
	}
	for _, mistake := range mistakes {
		fmt.Println(mistake.Position, mistake.Code)
	}
	// Output:
	// redirect /timetable/{season} -> /sailings/{season}
	// site.rules:3:1 rule-verb
}

// Formatting aligns the columns, and changes no meaning.
func ExampleFormat() {
	fmt.Printf("%s", rules.Format([]byte("redirect /a -> /b\nredirect /timetable -> /sailings\n")))
	// Output:
	// redirect  /a          -> /b
	// redirect  /timetable  -> /sailings
}
