package site

import (
	"context"
	"path"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/source"
)

// NameOf returns what people call a ref.
func NameOf(ref source.Ref) string {
	if branch, ok := ref.Branch(); ok {
		return branch
	}
	return strings.TrimPrefix(ref.Name, "refs/")
}

// TargetOf returns where a ref's commits go: "" if it is not followed.
func (p *Project) TargetOf(ref source.Ref) string {
	branch, isBranch := ref.Branch()
	if !isBranch {
		if p.ProductionConfig.Previews.FollowsRef(ref.Name) {
			return p.RefPreview(ref.Name)
		}
		return ""
	}

	if environment := p.ProductionConfig.Following(branch); environment != "" {
		return environment
	}
	if p.ProductionConfig.Previews.FollowsBranch(branch) {
		return p.Preview(branch)
	}
	return ""
}

// SameSite reports whether two commits have the same files of the site: its
// folder, what else its build sees, and its configuration.
func (p *Project) SameSite(ctx context.Context, a, b string) (bool, error) {
	if a == "" {
		return false, nil
	}
	config, err := p.ConfigAt(ctx, b)
	if err != nil {
		return false, ctx.Err()
	}

	if slices.Contains(config.Build.Tell, "commit") || slices.Contains(config.Build.Tell, "history") {
		return false, nil
	}
	paths := append([]string{path.Join(p.Prefix, project.FileName), path.Join(p.Prefix, config.Build.Folder)},
		config.Build.Also...)

	for _, one := range paths {
		if one == "." {
			one = ""
		}
		before, err := p.Repository.Object(ctx, a, one)
		if err != nil {
			return false, ctx.Err()
		}

		after, err := p.Repository.Object(ctx, b, one)
		if err != nil || before != after {
			return false, ctx.Err()
		}
	}

	return true, nil
}
