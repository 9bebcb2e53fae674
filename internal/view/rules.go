package view

type FormatReport struct {
	Files []FormattedFile `json:"files"`
}

type FormattedFile struct {
	File    string `json:"file"`
	Changed bool   `json:"changed"`
}
