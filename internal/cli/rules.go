package cli

import (
	"bytes"
	"context"
	"fmt"
	"net/url"
	"os"
	"path/filepath"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/rules"
	"orilla.example/orilla/internal/site"
	"orilla.example/orilla/internal/view"
)

// rulesCmd lays out rules files, and makes rules of lists.
type rulesCmd struct{ *app }

func newRulesCommand(a *app) *cobra.Command {
	c := &rulesCmd{app: a}
	cmd := &cobra.Command{
		Example: "orilla rules format",
		Use:     "rules", Short: "Format rules files, import redirects",
		RunE: func(cmd *cobra.Command, _ []string) error { return cmd.Help() },
	}

	var dryRun bool
	format := &cobra.Command{
		Example: "orilla rules format\norilla rules format site.rules --dry-run",
		Use:     "format [FILE...]", Short: "Align the columns of rules files",
		Long: "Format aligns the columns of rules files (default: those in orilla.yaml). With - it " +
			"reads standard input and writes standard output. With --dry-run it only lists the " +
			"files it would change; the exit status is 4 if there are any.",
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.formatRules(cmd.Context(), args,
				dryRun)
		},
	}

	format.Flags().BoolVar(&dryRun, "dry-run", false, "show which files would change, without "+
		"changing them")
	imports := &cobra.Command{
		Use: "import FILE.csv", Short: "Import redirects from a CSV list",
		Args: cobra.ExactArgs(1),
		Long: "Import reads comma-separated values (RFC 4180) with two or three columns: from, to " +
			"and status, as paths or full addresses. It prints redirects, and reports rows that " +
			"make none; the exit status is 4 then.",
		Example: "orilla rules import moved.csv >> site.rules",
		RunE: func(cmd *cobra.Command, args []string) error {
			return c.importRules(cmd.Context(),
				args[0])
		},
	}
	inOrder(cmd, a.jsonFlag(format), imports)
	return cmd
}

// Rules files are read by people, in reviews above all: columns show at a glance which line differs.
// What is inside the output is made by the build, and laid out by nobody. A file that cannot be
// parsed is laid out too, as far as its lines can be told: half of a file being written is still
// easier to read in columns.

// formatRules is orilla rules format: it lays out rules files in columns and
// changes nothing that they mean. With "-" it reads standard input and writes
// standard output, as editors want it.
func (a *rulesCmd) formatRules(ctx context.Context, files []string, dryRun bool) error {
	if len(files) == 1 && files[0] == "-" {
		var text bytes.Buffer
		if _, err := text.ReadFrom(os.Stdin); err != nil {
			return fault.New(fault.Failed, "unreadable", "cannot read standard input").Because(err)
		}
		_, err := a.Out.Write(rules.Format(text.Bytes()))
		return err
	}

	if len(files) == 0 {
		p, err := a.load(ctx)
		if err != nil {
			return err
		}
		for _, file := range p.LocalConfig.Rules {
			if _, made := p.LocalConfig.InOutput(file); !made {
				files = append(files, filepath.Join(site.Folder(p), filepath.FromSlash(file)))
			}
		}

		if len(files) == 0 {
			return fault.New(fault.Usage, "no-rules-file", "orilla.yaml has no rules file").
				Then("add to orilla.yaml: rules: site.rules").Then("or name a file: orilla rules format FILE")
		}
	} else {
		for i := range files {
			files[i] = a.path(files[i])
		}
	}

	report := view.FormatReport{Files: []view.FormattedFile{}}
	n := 0
	for _, file := range files {
		changed, err := formatFile(file, dryRun)
		if err != nil {
			return err
		}
		report.Files = append(report.Files, view.FormattedFile{File: file, Changed: changed})
		if changed {
			n++
		}

		if a.JSON {
			continue
		}
		text := console.Faint("already formatted")
		switch {
		case changed && dryRun:
			text = console.Warn("would be formatted")
		case changed:
			text = console.Accent("aligned")
		}
		a.Print("%s  %s", file, text)
	}

	if a.JSON {
		if err := a.Document(report); err != nil {
			return err
		}
	}

	if dryRun && n > 0 {
		return &exitError{int(fault.Findings)}
	}
	return nil
}

// formatFile writes a file anew if formatting changes it.
// It is replaced whole, or not at all.
func formatFile(file string, dryRun bool) (changed bool, err error) {
	before, err := os.ReadFile(file)
	if err != nil {
		return false, fault.New(fault.Usage, "unreadable", "cannot read the rules file").At("%s", file).
			Because(err)
	}

	after := rules.Format(before)
	if bytes.Equal(before, after) || dryRun {
		return !bytes.Equal(before, after), nil
	}
	info, err := os.Stat(file)
	if err != nil {
		return false, err
	}

	temporary, err := os.CreateTemp(filepath.Dir(file), ".rules-*")
	if err != nil {
		return false, fault.New(fault.Failed, "unwritable", "cannot write the rules file").
			At("%s", file).Because(err)
	}
	defer os.Remove(temporary.Name()) //nolint:errcheck // it has gone to its place
	_, err = temporary.Write(after)
	for _, step := range []func() error{temporary.Close,
		func() error { return os.Chmod(temporary.Name(), info.Mode().Perm()) },
		func() error { return os.Rename(temporary.Name(), file) }} {
		if err == nil {
			err = step()
		}
	}

	if err != nil {
		return false, fault.New(fault.Failed, "unwritable", "cannot write the rules file").
			At("%s", file).Because(err)
	}
	return true, nil
}

// importRules is orilla rules import: it prints rules for a list of moved
// addresses (RFC 4180, with the columns from, to and perhaps status). Addresses
// of the site's own hosts lose their host. Rows that make no rule are told on
// standard error, and the status is 4 then: a list of thousands is not to fail
// for one.
func (a *rulesCmd) importRules(ctx context.Context, name string) error {
	file, err := os.Open(a.path(name))
	if err != nil {
		return fault.New(fault.Usage, "unreadable", "cannot read the list").At("%s", name).Because(err)
	}
	defer file.Close() //nolint:errcheck // read only
	var own []string

	if p, err := a.load(ctx); err == nil {
		for _, environment := range p.ProductionConfig.Environments {
			for _, address := range environment.Addresses {
				if u, err := url.Parse(address); err == nil {
					own = append(own, u.Hostname())
				}
			}
		}
	}

	rows, err := rules.Import(file, own)
	if err != nil {
		return fault.New(fault.Usage, "bad-list", "cannot read the list as comma-separated values").
			At("%s", name).Because(err)
	}

	var text strings.Builder
	made, left := 0, 0
	for _, row := range rows {
		if row.Text == "" {
			left++
			a.Note("%s %s", console.Warn(fmt.Sprintf("%s:%d:", name, row.Line)), row.Reason)
			continue
		}
		made++
		text.WriteString(row.Text + "\n")
	}

	if _, err := a.Out.Write(rules.Format([]byte(text.String()))); err != nil {
		return err
	}
	a.Note("%s", console.Faint(console.Count(int64(made), "rule", "rules")+" of "+
		console.Count(int64(len(rows)), "row", "rows")))

	if left > 0 {
		return &exitError{int(fault.Findings)}
	}
	return nil
}
