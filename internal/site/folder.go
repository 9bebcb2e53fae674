package site

import (
	"context"
	"path/filepath"
	"time"

	"orilla.example/orilla/internal/core/publish"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/source"
)

// Folder is the folder that the site lies in, in the working tree.
func Folder(p *Project) string {
	return filepath.Join(p.Root, filepath.FromSlash(p.LocalConfig.Build.Folder))
}

// Output is where a build leaves its output in the working tree.
func Output(p *Project) string {
	return filepath.Join(Folder(p), filepath.FromSlash(p.LocalConfig.Build.Output))
}

// Fingerprint scans a folder as an output and hashes its files, without a store.
// memory, nil for none, spares reading what it knows.
func Fingerprint(ctx context.Context, p *Project, folder string, memory *publish.Memory,
) (publish.Output, *publish.Scan, []release.File, error) {
	tree := source.Folder(folder)
	options := publish.Options{LeaveOut: p.LocalConfig.LeaveOut, Rules: p.LocalConfig.RulesInOutput(),
		MaxFiles: p.LocalConfig.Limits.Files,
		MaxBytes: int64(p.LocalConfig.Limits.Size), WithoutIndex: true}
	scan, err := publish.Find(tree, options, time.Now())
	if err != nil {
		return tree, nil, nil, err
	}

	upload := publish.Upload{Memory: memory}
	files, _, err := upload.Run(ctx, tree, scan)
	return tree, scan, files, err
}
