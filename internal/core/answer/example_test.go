package answer_test

import (
	"context"
	"fmt"
	"net/http"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/rules"
)

// What a request is answered with depends on the files, the rules and the request,
// and on nothing else.
func ExampleDecide() {
	program, _ := rules.Parse([]rules.Source{{Name: "site.rules", Text: []byte(`
redirect  /timetable/{season}  -> /sailings/{season}
fallback  /planner/{rest:all}  -> /planner/
`)}}, rules.Options{})
	set, err := program.Compile()
	if err != nil {
		fmt.Println(err)
		return
	}
	site := answer.Site{Files: of("index.html", "about/index.html", "planner/index.html"), Rules: set}

	for _, path := range []string{"/", "/about", "/timetable/winter", "/planner/7", "/nowhere"} {
		a, err := answer.Decide(context.Background(), answer.Request{Method: http.MethodGet, Path: path,
			Environment: answer.Production}, site)
		if err != nil {
			fmt.Println(err)
			return
		}
		file := ""
		if a.File != nil {
			file = a.File.Path
		}
		fmt.Println(path, a.Status, file+a.Location)
	}
	// Output:
	// / 200 index.html
	// /about 301 /about/
	// /timetable/winter 301 /sailings/winter
	// /planner/7 200 planner/index.html
	// /nowhere 404
}
