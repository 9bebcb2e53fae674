module orilla.example/orilla

go 1.26.0

require (
	github.com/bmatcuk/doublestar/v4 v4.10.4
	github.com/fsnotify/fsnotify v1.10.1
	github.com/goccy/go-yaml v1.19.2
	github.com/gowebpki/jcs v1.0.2
	golang.org/x/sync v0.24.0
	golang.org/x/sys v0.49.0
	golang.org/x/text v0.43.0
)
