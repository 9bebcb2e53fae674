package site

import (
	"context"
	"errors"
	"io/fs"
	"os"
	"path"
	"path/filepath"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/source"
)

// RuleSources reads the rules files of a configuration, joined in order. beside
// reads those that lie in the site's folder, made those that the build leaves
// in the output; without it they are passed over.
func RuleSources(config project.Config, beside, made func(file string) ([]byte, error),
) ([]rules.Source, error) {
	var files []rules.Source
	for _, file := range config.Rules {
		read, at := beside, file
		if inside, ok := config.InOutput(file); ok {
			read, at = made, inside
		}
		if read == nil {
			continue
		}

		text, err := read(at)
		if err != nil {
			return nil, noRulesFile(file, err)
		}
		files = append(files, rules.Source{Name: path.Join(config.Build.Folder, file), Text: text})
	}

	return files, nil
}

// RulesIn returns what reads rules files below a folder, by their paths with
// slashes, as RuleSources takes it.
func RulesIn(folder string) func(file string) ([]byte, error) { return readIn(folder) }

// readIn returns what reads files of a folder, by their
// paths with slashes, and nothing outside it.
func readIn(folder string) func(file string) ([]byte, error) {
	return func(file string) ([]byte, error) {
		root, err := os.OpenRoot(folder)
		if err != nil {
			return nil, err
		}
		defer root.Close() //nolint:errcheck // read only
		return root.ReadFile(filepath.FromSlash(file))
	}
}

// noRulesFile is the error of a rules file that cannot be read.
func noRulesFile(file string, err error) error {
	if !errors.Is(err, fs.ErrNotExist) && !errors.Is(err, source.ErrNoFile) {
		return fault.New(fault.Failed, "unreadable", "cannot read the rules file %s", file).Because(err)
	}
	return fault.New(fault.Usage, "no-rules-file", "no rules file %q", file).
		At("%s: rules", project.FileName).
		Then("add and commit the file, or remove it from rules")
}

// LocalRules reads the rules files that lie beside the
// command, those in the output too.
func LocalRules(p *Project, output string) ([]rules.Source, error) {
	return RuleSources(p.LocalConfig, readIn(Folder(p)), readIn(output))
}

// RulesReader returns a function that reads the rules files beside the build:
// from the commit if the plan has one, else from the site's folder. Each file
// is read once, although rules are needed before and after the build.
func (plan *Plan) RulesReader(ctx context.Context) func(file string) ([]byte, error) {
	p := plan.Project
	if plan.Commit == nil || plan.Origin.Source != journal.FromCommit || plan.ConfigNote != "" {
		return readIn(filepath.Join(p.Root, filepath.FromSlash(plan.Config.Build.Folder)))
	}
	read := map[string][]byte{}

	return func(file string) ([]byte, error) {
		text, known := read[file]
		if known {
			return text, nil
		}
		text, err := p.Repository.File(ctx, plan.Commit.Hash, path.Join(p.Prefix, plan.Config.Build.Folder,
			file))
		if err == nil {
			read[file] = text
		}
		return text, err
	}
}
