package release_test

import (
	"fmt"

	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
)

// The same files are the same release, in whatever order they come.
func ExampleBuild() {
	page := func(path, text string) release.File {
		return release.File{Path: path, Digest: digest.Of([]byte(text)), Size: int64(len(text)),
			Type: "text/html; charset=utf-8"}
	}
	home, fares := page("index.html", "Corvane Ferries"), page("fares.html", "42.00")

	one, err := release.Build([]release.File{home, fares}, nil, release.Settings{})
	if err != nil {
		fmt.Println(err)
		return
	}
	two, err := release.Build([]release.File{fares, home}, nil, release.Settings{})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Println(one.ID == two.ID)
	fmt.Printf("%s\n", one.Chunks[0].Data)
	// Output:
	// true
	// ["fares.html","8f3618bf83de7a8968a6446b58088366f51029aa627ded503388608de1739c00",5,"text/html; charset=utf-8"]
	// ["index.html","91803b96afe94ff5be3395ecb4fc034336afb0b976df268e59fdf28c0997ed84",15,"text/html; charset=utf-8"]
}
