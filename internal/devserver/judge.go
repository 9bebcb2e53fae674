package devserver

import (
	"context"
	"io"
	"strings"
	"sync"

	"orilla.example/orilla/internal/core/check"
	"orilla.example/orilla/internal/core/finding"
	"orilla.example/orilla/internal/core/release"
	"orilla.example/orilla/internal/inspect"
)

// judgement is what a deploy of what is shown would refuse. Finding that out takes
// longer than showing, so it goes on beside, for the newest state only.
type judgement struct {
	due      bool   // what is shown is new
	serial   int    // of what is being judged
	refused  string // the keys of what was found last
	end      context.CancelFunc
	verdicts chan verdict
}

// verdict is what was found out about a state.
type verdict struct {
	serial int
	found  finding.List
	err    error
}

// judge begins to find out what a deploy of what is shown would refuse, if that is
// new.
func (b *Bench) judge(ctx context.Context, owned *sync.WaitGroup) {
	j := &b.judgement
	if !j.due {
		return
	}
	j.end()
	j.due, j.serial = false, j.serial+1
	ctx, j.end = context.WithCancel(ctx)

	// The bench goes on to the next state meanwhile, so that a save shows at once also
	// where reading all pages takes a second.
	v, project, output, shown := verdict{serial: j.serial}, b.Project, b.output(), b.last
	owned.Go(func() {
		if b.OnlyRules {
			v.found, v.err = inspect.RefusedRules(ctx, project, output, b.local.options.Front.files())
		} else {
			v.found, v.err = inspect.Refused(ctx, project, output, shown.Files,
				func(_ context.Context, file release.File) ([]byte, error) { return shown.read(file) })
		}
		select {
		case j.verdicts <- v:
		case <-ctx.Done():
		}
	})
}

// read returns the content of a file.
func (s *Shown) read(file release.File) ([]byte, error) {
	content, err := s.open(file)
	if err != nil {
		return nil, err
	}
	if file, ok := content.(io.Closer); ok {
		defer file.Close() //nolint:errcheck // read only
	}
	return io.ReadAll(content)
}

// judged tells what a deploy of what is shown would refuse, if that has changed.
func (b *Bench) judged(v verdict) {
	// What cannot be read is told by whoever reads it.
	if v.serial != b.judgement.serial || v.err != nil {
		return
	}
	var keys, lines []string
	for _, f := range v.found {
		keys = append(keys, check.Key(f))
		lines = append(lines, f.Position.String()+": "+f.What+" ["+f.Code+"]")
		if f.Next != "" {
			lines = append(lines, "next: "+f.Next)
		}
	}

	if now := strings.Join(keys, "\n"); now != b.judgement.refused {
		b.judgement.refused = now
		b.local.Note(Note{OfDeploy, "A deploy would refuse this", strings.Join(lines, "\n")})
		b.Report.Refused(v.found)
	}
}
