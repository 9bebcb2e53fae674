package courier

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"strings"

	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/process"
	"orilla.example/orilla/internal/steps"
)

// A command has the rights of whoever deploys, as those of wait_for have, and that is why it is
// read from the production branch alone. It gets the event as data and never as a part of the
// command line: nothing that a branch or a message is called can become a command.

// command runs a command for each event, which it reads from its standard input.
type command struct {
	options Options
	notice  project.Notice
}

// secrets returns the variables that the command is given, and their values.
func (c *command) secrets() (variables []string, err error) {
	for _, name := range c.notice.Secrets {
		value, ok := c.options.lookup(name)
		if !ok || value == "" {
			return nil, missing{name}
		}
		variables = append(variables, name+"="+value)
	}
	return variables, nil
}

// send implements sender. The command gets the event on its standard input, and of the variables
// here only those that orilla.yaml names.
func (c *command) send(ctx context.Context, event notices.Event) error {
	variables, err := c.secrets()
	if err != nil {
		return err
	}
	body, err := event.Encode()
	if err != nil {
		return refusal{err}
	}
	folder, err := os.MkdirTemp("", "orilla-notice-")
	if err != nil {
		return err
	}
	defer os.RemoveAll(folder) //nolint:errcheck // it is a temporary folder
	file := filepath.Join(folder, "event.json")
	if err := os.WriteFile(file, body, 0o600); err != nil {
		return err
	}
	var hidden []string
	for _, variable := range variables {
		_, value, _ := strings.Cut(variable, "=")
		hidden = append(hidden, value)
	}
	environment := append(process.Environment(process.Network...), variables...)
	environment = append(environment, "ORILLA_EVENT="+file, "ORILLA_KIND="+string(event.Data.Kind),
		"ORILLA_SITE="+event.Data.Site, "ORILLA_ENVIRONMENT="+journal.DisplayName(event.Data.Environment),
		"ORILLA_COMMIT="+event.Data.Commit)
	last := "" // line that says something
	ran, err := steps.Run(ctx, steps.Spec{
		// A shell of its own between the brackets, so that a command of several lines has it too.
		Folder: c.options.Folder, Steps: []string{"(\n" + c.notice.Command + "\n) < \"$ORILLA_EVENT\""},
		Environment: environment, Secrets: hidden, TimeLimit: attemptTime, Log: io.Discard,
		Line: func(line string) {
			if strings.TrimSpace(line) != "" {
				last = line
			}
		},
	})
	switch {
	case err == nil:
		return nil
	case errors.Is(err, steps.ErrTimeLimit), ctx.Err() != nil:
		err = fmt.Errorf("it took longer than %s", attemptTime)
	case len(ran) > 0:
		err = fmt.Errorf("it ended with status %d", ran[len(ran)-1].Exit)
	}
	if last != "" {
		err = fmt.Errorf("%w: %s", err, last)
	}
	return err
}
