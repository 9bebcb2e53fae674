package cli

import (
	"errors"
	"os"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/view"
)

// CI systems read results in three ways: as variables for later steps, as a summary that people see on
// the page of the run, and as JSON for whatever else. Each is a form of the same values, so that a job
// which wants two of them names two files.
//
// What is written is what is so: a deploy that goes back because a check failed writes that, and not
// what it had put live for a moment.

// writeOptions are the files in which a CI system wants to read what a command
// did.
type writeOptions struct {
	write            []string
	outputs, summary string // as they were given before there was --write
	saved            bool   // what is live has been told; what fails after that changes nothing of it
}

// forms are how results can be written.
var forms = []string{"lines", "markdown", "json"}

// flags adds what later steps of CI read. Files are written to their end, since
// CI hands the same file to every step of a job.
func (o *writeOptions) flags(cmd *cobra.Command) {
	flags := cmd.Flags()
	flags.StringArrayVar(&o.write, "write", nil,
		"append results as `FORM:FILE`, the form being lines (NAME=VALUE), markdown or json "+
			"(repeatable)")
	flags.StringVar(&o.outputs, "outputs", "", "append results to `FILE`, a line NAME=VALUE each")
	flags.StringVar(&o.summary, "summary", "", "append a few lines of Markdown to `FILE`")
	//nolint:errcheck // the flags exist
	flags.MarkDeprecated("outputs", "use --write lines:FILE")
	//nolint:errcheck // the flags exist
	flags.MarkDeprecated("summary", "use --write markdown:FILE")
}

// check refuses what is no form, before anything is done.
func (o *writeOptions) check() error {
	for _, one := range o.write {
		form, file, ok := strings.Cut(one, ":")
		if !ok || file == "" || !slices.Contains(forms, form) {
			return fault.New(fault.Usage, "usage", "--write %s: a form and a file are needed", one).
				Then("--write lines:FILE, --write markdown:FILE or --write json:FILE")
		}
	}
	return nil
}

// save adds to the files that were asked for.
func (o *writeOptions) save(v view.OutputValues) error {
	o.saved = true
	asked := o.write
	if o.outputs != "" {
		asked = append(asked, "lines:"+o.outputs)
	}
	if o.summary != "" {
		asked = append(asked, "markdown:"+o.summary)
	}

	for _, one := range asked {
		form, file, _ := strings.Cut(one, ":")
		var text string
		switch form {
		case "lines":
			text = v.Lines()
		case "markdown":
			text = v.Markdown()
		default:
			text = v.JSONLine()
		}
		if err := appendTo(file, text); err != nil {
			return err
		}
	}
	return nil
}

// record adds why a command failed to the files that were asked for, and returns
// its error. environment is what was to move, as far as it was said.
func (o *writeOptions) record(environment string, err error) error {
	if err == nil || o.saved || o.check() != nil {
		return err
	}
	values := view.OutputValues{Outcome: view.OutcomeFailed, Environment: environment, Why: fault.Line(err)}
	if unsaved := o.save(values); unsaved != nil {
		return errors.Join(err, unsaved)
	}
	return err
}

// appendTo adds a text to the end of a file, which is made if it is not there.
func appendTo(path, text string) error {
	file, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_APPEND, 0o644)
	if err == nil {
		_, err = file.WriteString(text)
		if closed := file.Close(); err == nil {
			err = closed
		}
	}
	if err != nil {
		return fault.New(fault.Failed, "unwritable", "cannot write the results").
			At("%s", path).Because(err).
			Then("the deploy itself is done; check the path after --write")
	}

	return nil
}
