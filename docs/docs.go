// Package docs carries the pages that the program can show by itself, so that who
// has only the program can look them up: orilla help TOPIC.
package docs

import _ "embed" // for the pages below

// The pages, in Markdown.
var (
	// Configuration describes every key of orilla.yaml.
	//go:embed configuration.md
	Configuration string

	// Rules describes the language of rules files.
	//go:embed rules.md
	Rules string

	// Answers says which file answers at which address, and with which headers.
	//go:embed answers.md
	Answers string

	// EdgeNodes says how sites are served from a server of one's own.
	//go:embed edge.md
	EdgeNodes string

	// Domains says how a site gets its names.
	//go:embed domains.md
	Domains string

	// Notices says who is told what happens to a site.
	//go:embed notices.md
	Notices string

	// Pictures says how pages look, and how they looked.
	//go:embed pictures.md
	Pictures string

	// ExitStatuses says how commands end, and what they write.
	//go:embed exit-statuses.md
	ExitStatuses string
)
