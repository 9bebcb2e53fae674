package inspect

import (
	"context"
	"maps"
	"net/url"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/core/rules"
)

// NewCheck prepares the check of a program against the files of a release.
func NewCheck(program *rules.Program, list []release.File, config, standing project.Config,
) (check.Input, error) {
	set, err := program.Compile()
	if err != nil {
		return check.Input{}, err
	}
	in := check.Input{Site: answer.Unpublished(check.Map(list), list, config.Settings()), Program: program,
		Files: list}
	in.Site.Rules = set

	in.Site.Config = environmentConfig(standing, project.Production)
	for _, environment := range standing.Environments {
		in.Own = append(in.Own, environment.Addresses...)
	}
	slices.Sort(in.Own)
	if !slices.Contains(config.Build.Tell, "address") && !slices.Contains(config.Build.Tell, "environment") {
		in.Places = placesOf(standing)
	}

	return in, nil
}

// environmentConfig returns what an environment, by its stored name, answers with of
// itself, as it is configured.
func environmentConfig(config project.Config, environment string) *answer.EnvironmentConfig {
	document := config.Document(environment)
	return answer.EnvironmentConfigOf(document.Settings, document.SettingsPath)
}

// placesOf returns the hosts of a site's environments, as they are configured
// and as they are on developers' machines.
func placesOf(standing project.Config) []check.Place {
	var places []check.Place
	add := func(host, environment string) {
		if place := (check.Place{Host: host, Environment: environment}); host != "" &&
			!slices.Contains(places, place) {
			places = append(places, place)
		}
	}

	for _, name := range slices.Sorted(maps.Keys(standing.Environments)) {
		for _, address := range standing.Environments[name].Addresses {
			if at, err := url.Parse(address); err == nil {
				add(at.Hostname(), name)
			}
		}
	}

	for _, address := range standing.Previews.Addresses {
		_, rest, _ := strings.Cut(address, project.LabelPlace)
		if host, _, _ := strings.Cut(rest, "/"); strings.HasPrefix(host, ".") {
			host, _, _ = strings.Cut(host, ":")
			add(host, "previews")
		}
	}

	if standing.Site != "" {
		add(standing.Site+".localhost", "a developer's machine")
		add("."+standing.Site+".localhost", "a developer's machine")
	}
	return places
}

// CheckRules finds mistakes in rules, and expectations that fail.
func CheckRules(ctx context.Context, in check.Input) (finding.List, error) {
	found, err := check.Rules(ctx, in)
	if err != nil {
		return nil, err
	}
	failed, err := check.Expectations(ctx, in)
	found = append(found, failed...)
	found.Sort()
	return found, err
}

// RuleCounts says what rules a release has.
type RuleCounts struct {
	Rules        map[rules.Verb]int
	Expectations int
}

// FilesOf lists all files of a release in order of path. It loads every chunk,
// so ask only where all are needed.
func FilesOf(ctx context.Context, reader *release.Reader) ([]release.File, error) {
	var list []release.File
	for file, err := range reader.Files(ctx) {
		if err != nil {
			return nil, err
		}
		list = append(list, file)
	}
	return list, nil
}

// FewPages is how many new or changed pages a deploy reads, unless the
// configuration stops on what is found: then it reads all. Reading a large
// site's pages takes longer than sending them.
const FewPages = 2000
