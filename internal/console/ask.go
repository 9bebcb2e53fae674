package console

import (
	"context"
	"errors"
	"os"

	"charm.land/huh/v2"

	"orilla.example/orilla/internal/core/fault"
)

// ErrNobody: a question came up and nobody is there to answer.
var ErrNobody = errors.New("no terminal to answer on")

// Confirm asks a yes-or-no question. Without a terminal it is an error.
func (c *Console) Confirm(ctx context.Context, question, about string, preset bool) (bool, error) {
	if c.Assume {
		return true, nil
	}
	if !c.Asks {
		return false, ErrNobody
	}
	answer := preset
	err := form(ctx, huh.NewConfirm().Title(question).Description(about).Affirmative("yes").Negative("no").
		Value(&answer))
	given := "no"
	if answer {
		given = "yes"
	}

	answered(c, given, err)
	return answer, err
}

// Input asks for one line. check says what is wrong with an answer.
func (c *Console) Input(ctx context.Context, question, about, preset string, check func(string) error,
) (string, error) {
	if !c.Asks {
		return "", ErrNobody
	}
	answer := preset
	field := huh.NewInput().Title(question).Description(about).Value(&answer)
	if check != nil {
		field = field.Validate(check)
	}

	err := form(ctx, field)
	answered(c, answer, err)
	return answer, err
}

// Secret asks for one line that is not shown. check says
// what is wrong with an answer.
func Secret(ctx context.Context, c *Console, question, about string, check func(string) error,
) (string, error) {
	if !c.Asks {
		return "", ErrNobody
	}
	answer := ""
	field := huh.NewInput().Title(question).Description(about).EchoMode(huh.EchoModePassword).Value(&answer)
	if check != nil {
		field = field.Validate(check)
	}
	return answer, form(ctx, field)
}

// answered leaves the answer to a question on the screen,
// where the question was.
func answered(c *Console, answer string, err error) {
	if err == nil {
		c.Note("  %s", Accent(answer))
	}
}

// Select asks for one of several.
func (c *Console) Select(ctx context.Context, question, about string, choices []string) (string, error) {
	if !c.Asks {
		return "", ErrNobody
	}
	answer := ""
	err := form(ctx, huh.NewSelect[string]().Title(question).Description(about).
		Options(huh.NewOptions(choices...)...).Value(&answer))
	answered(c, answer, err)
	return answer, err
}

// form asks one question. An interrupt there is no error of the program:
// nothing was begun.
func form(ctx context.Context, field huh.Field) error {
	err := huh.NewForm(huh.NewGroup(field)).WithOutput(os.Stderr).WithShowHelp(false).RunWithContext(ctx)
	if errors.Is(err, huh.ErrUserAborted) {
		return fault.New(fault.Failed, "interrupted", "interrupted; nothing changed")
	}
	return err
}
