package storage

import "fmt"

// Formats are the highest versions of records that a program
// reads. It reads the lower ones too, and writes the lowest
// that can say what is to be said (docs/store-format.md).
type Formats struct {
	Document  int `json:"document"`
	Entry     int `json:"entry"`
	Semantics int `json:"semantics"`
}

// Known are those of this program.
var Known = Formats{Document: 2, Entry: 2, Semantics: 3}

// Lacks names what is needed and not known; "" for nothing. A program that says
// nothing knows the first ones.
func (f Formats) Lacks(needed Formats) string {
	switch {
	case max(f.Document, 1) < needed.Document:
		return "environment documents of format 2"
	case max(f.Entry, 1) < needed.Entry:
		return "journal entries of format 2"
	case max(f.Semantics, 1) < needed.Semantics:
		return fmt.Sprintf("releases of semantics %d", needed.Semantics)
	}
	return ""
}
