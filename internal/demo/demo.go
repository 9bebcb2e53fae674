// Package demo is the project of a made-up ferry line, Corvane Ferries, as a real
// Git repository whose commits have the same hashes on every machine.
//
// Since authors, dates and content are fixed, so are the ids of all releases made
// from it: what docs and screenshots show can be had again by anybody.
package demo

import (
	"context"
	"embed"
	"fmt"
	"io/fs"
	"os"
	"os/exec"
	"path/filepath"
	"strings"

	"orilla.example/orilla/internal/process"
)

//go:embed all:steps
var steps embed.FS

// commit is one commit of the project: the files of one folder of steps, laid
// over those of the commits before.
type commit struct {
	folder  string
	author  string
	date    string // RFC 3339
	message string
}

// commits are fixed: their hashes are known, and a test holds them to it.
var commits = []commit{
	{"1", "Ines Marrow <ines@corvane.example>", "2026-10-12T09:10:00+02:00",
		"Pages, drawings and a build for the new site"},
	{"2", "Tobias Quill <tobias@corvane.example>", "2026-10-14T14:25:00+02:00",
		"Harbour guides for Oskra, Tamsel and Velley"},
	{"3", "Ines Marrow <ines@corvane.example>", "2026-10-19T11:02:00+02:00", "A journey planner"},
	{"4", "Tobias Quill <tobias@corvane.example>", "2026-10-21T07:45:00+02:00", "Notice: the Dunlin is back"},
	{"5", "Ines Marrow <ines@corvane.example>", "2026-10-22T10:20:00+02:00",
		"A page in Galician, a strike notice, addresses for journeys"},
	{"6", "Tobias Quill <tobias@corvane.example>", "2026-10-22T16:05:00+02:00",
		"Rules: the old site's addresses lead on"},
	{"7", "Ines Marrow <ines@corvane.example>", "2026-10-23T17:58:00+02:00", "Fares for the new year"},
}

// Head is the hash of the last commit.
const Head = "30afbfb3220d81903b49a73a5ae5d8dd05ff200a"

// Create makes the repository in a folder that does not exist or is empty.
func Create(ctx context.Context, folder string) error {
	if err := os.MkdirAll(folder, 0o755); err != nil {
		return err
	}
	if entries, err := os.ReadDir(folder); err != nil || len(entries) > 0 {
		return fmt.Errorf("%s is not empty: %w", folder, fs.ErrExist)
	}

	if err := git(ctx, folder, nil, "init", "--quiet", "--object-format=sha1",
		"--initial-branch=main"); err != nil {
		return err
	}
	for _, setting := range [][2]string{{"core.autocrlf", "false"}, {"core.fileMode", "false"},
		{"commit.gpgSign", "false"},
		{"user.name", "Ines Marrow"}, {"user.email", "ines@corvane.example"}} {
		if err := git(ctx, folder, nil, "config", setting[0], setting[1]); err != nil {
			return err
		}
	}

	for _, c := range commits {
		if err := c.make(ctx, folder); err != nil {
			return err
		}
	}
	return nil
}

// make writes the files of one step of the demo and commits them.
func (c commit) make(ctx context.Context, folder string) error {
	files, err := fs.Sub(steps, "steps/"+c.folder)
	if err != nil {
		return err
	}
	err = fs.WalkDir(files, ".", func(path string, entry fs.DirEntry, err error) error {
		if err != nil || entry.IsDir() {
			return err
		}
		data, err := fs.ReadFile(files, path)
		if err != nil {
			return err
		}

		target := filepath.Join(folder, filepath.FromSlash(path))
		if err := os.MkdirAll(filepath.Dir(target), 0o755); err != nil {
			return err
		}
		return os.WriteFile(target, data, 0o644)
	})
	if err != nil {
		return err
	}

	if err := git(ctx, folder, nil, "add", "--all"); err != nil {
		return err
	}
	name, address, _ := strings.Cut(strings.TrimSuffix(c.author, ">"), " <")
	return git(ctx, folder, []string{
		"GIT_AUTHOR_NAME=" + name, "GIT_AUTHOR_EMAIL=" + address, "GIT_AUTHOR_DATE=" + c.date,
		"GIT_COMMITTER_NAME=" + name, "GIT_COMMITTER_EMAIL=" + address, "GIT_COMMITTER_DATE=" + c.date,
	}, "commit", "--quiet", "--no-verify", "--message", c.message)
}

// Winter is the branch with the times of next winter.
const Winter = "winter-times"

// Ahead is how many commits of the main branch the branch Winter does not have.
const Ahead = 1

// PlanWinter commits new winter times, now, on a branch of
// its own that starts before the last commit of the main
// branch, and leaves the main branch checked out.
func PlanWinter(ctx context.Context, folder string) error {
	if err := git(ctx, folder, nil, "checkout", "--quiet", "-b", Winter,
		fmt.Sprintf("main~%d", Ahead)); err != nil {
		return err
	}
	pages := filepath.Join(folder, "pages")
	times := strings.NewReplacer("<td>09:00</td><td>Velley</td><td>09:40</td>",
		"<td>08:40</td><td>Velley</td><td>09:20</td>")

	if err := edit(filepath.Join(pages, "sailings", "winter.html"), times.Replace); err != nil {
		return err
	}
	if err := edit(filepath.Join(pages, "notices", "index.html"), func(text string) string {
		return strings.Replace(text, "<article", winterNotice+"<article", 1)
	}); err != nil {
		return err
	}

	if err := os.WriteFile(filepath.Join(pages, "sailings", "holidays.html"), []byte(holidayPage),
		0o644); err != nil {
		return err
	}
	if err := git(ctx, folder, nil, "add", "--all"); err != nil {
		return err
	}

	if err := git(ctx, folder, tobias, "commit", "--quiet", "--no-verify", "--message",
		"Winter times: the Sandling leaves earlier"); err != nil {
		return err
	}
	return git(ctx, folder, nil, "checkout", "--quiet", "main")
}

// MergeWinter merges the winter times into the main branch.
func MergeWinter(ctx context.Context, folder string) error {
	return git(ctx, folder, nil, "merge", "--quiet", "--no-ff", "--no-verify", "--message",
		"Merge the winter times", Winter)
}

// DropWinter deletes the branch with the winter times.
func DropWinter(ctx context.Context, folder string) error {
	return git(ctx, folder, nil, "branch", "--quiet", "--delete", "--force", Winter)
}

const winterNotice = `<article class="notice"><time datetime="2026-10-23">23 October 2026</time><h3>The morning boat to Velley leaves at 08:40</h3><p>Twenty minutes earlier than last winter, so that the school is reached before its bell. <a href="/sailings/holidays">Over the holidays she sleeps in.</a></p></article>
`

const holidayPage = `title: Sailings over the holidays
description: Departures from Corvane between 24 December and 6 January.
section: sailings

<h1>Sailings over the holidays</h1>
<p class="lead">24 December to 6 January. The cook is aboard on the second day only.</p>
<table><thead><tr><th>From Corvane</th><th>To</th><th>Arrives</th><th>Boat</th><th>Days</th></tr></thead><tbody>
<tr><td>09:30</td><td>Velley</td><td>10:10</td><td>Sandling</td><td>every day</td></tr>
<tr><td>11:30</td><td>Oskra and Tamsel</td><td>12:15, 13:00</td><td>Turnstone</td><td>every day</td></tr>
<tr><td>14:15</td><td>Lindmouth</td><td>15:50</td><td>Dunlin</td><td>not on 25 December</td></tr>
</tbody></table>
`

// tobias is who commits on branches.
var tobias = []string{"GIT_AUTHOR_NAME=Tobias Quill", "GIT_AUTHOR_EMAIL=tobias@corvane.example",
	"GIT_COMMITTER_NAME=Tobias Quill", "GIT_COMMITTER_EMAIL=tobias@corvane.example"}

// edit changes the text of a file.
func edit(path string, change func(string) string) error {
	text, err := os.ReadFile(path)
	if err != nil {
		return err
	}
	return os.WriteFile(path, []byte(change(string(text))), 0o644)
}

// Correction is the branch on which the mistake of the
// last commit is corrected.
const Correction = "right-fare"

// Correct commits the right fare, now, on a branch of its
// own, and leaves the main branch checked out.
func Correct(ctx context.Context, folder string) error {
	if err := git(ctx, folder, nil, "checkout", "--quiet", "-b", Correction); err != nil {
		return err
	}
	right := func(text string) string { return strings.ReplaceAll(text, ">4.30<", ">43.00<") }
	if err := edit(filepath.Join(folder, "pages", "fares.html"), right); err != nil {
		return err
	}

	if err := git(ctx, folder, tobias, "commit", "--quiet", "--no-verify", "--all", "--message",
		"A car to Lindmouth costs 43.00"); err != nil {
		return err
	}
	return git(ctx, folder, nil, "checkout", "--quiet", "main")
}

// Merge merges the correction into the main branch.
func Merge(ctx context.Context, folder string) error {
	return git(ctx, folder, nil, "merge", "--quiet", "--no-ff", "--no-verify", "--message",
		"Merge the right fare", Correction)
}

// git runs git without the user's own settings, which
// could change what is committed.
func git(ctx context.Context, folder string, environment []string, args ...string) error {
	command := exec.CommandContext(ctx, "git", args...)
	command.Dir = folder
	command.Env = append(append(process.Environment(), "GIT_CONFIG_GLOBAL="+os.DevNull,
		"GIT_CONFIG_NOSYSTEM=1"), environment...)
	if out, err := command.CombinedOutput(); err != nil {
		return fmt.Errorf("git %s: %w: %s", args[0], err, strings.TrimSpace(string(out)))
	}
	return nil
}

// Unlike the other commits this one has no fixed hash: its addresses have the ports that were
// free when the demo began.

// Name gives the site a name of its own, at the ports of an edge node on this machine, and
// commits that.
func Name(ctx context.Context, folder, httpPort, tlsPort string) error {
	const host = "corvane.example"
	// Each address for itself over https; plain http is there to lead on.
	addresses := fmt.Sprintf(`
edge_addresses: [127.0.0.1]
previews:
  addresses: ["https://{preview}.preview.%[1]s:%[3]s/", "http://{preview}.preview.%[1]s:%[2]s/"]
`, host, httpPort, tlsPort)
	production := fmt.Sprintf(`    addresses:
      - https://www.%[1]s:%[3]s/
      - https://%[1]s:%[3]s/
      - http://www.%[1]s:%[2]s/
      - http://%[1]s:%[2]s/
`, host, httpPort, tlsPort)
	if err := edit(filepath.Join(folder, "orilla.yaml"), func(text string) string {
		return strings.Replace(text, "    follows: main\n", "    follows: main\n"+production, 1) + addresses
	}); err != nil {
		return err
	}
	return git(ctx, folder, nil, "commit", "--quiet", "--no-verify", "--all", "--message",
		"The site is called corvane.example")
}
