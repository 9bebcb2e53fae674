package view

// FormatReport is the JSON document of orilla rules format.
type FormatReport struct {
	Files []FormattedFile `json:"files"`
}

// FormattedFile is one file of it.
type FormattedFile struct {
	File    string `json:"file"`
	Changed bool   `json:"changed"`
}
