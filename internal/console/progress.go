package console

import (
	"fmt"
	"os"
	"sync/atomic"
	"time"

	"github.com/vbauerster/mpb/v8"
	"github.com/vbauerster/mpb/v8/decor"
)

// Progress shows what is going on while it goes on: one
// line on a terminal, nothing elsewhere.
type Progress struct {
	pool *mpb.Progress
	bar  *mpb.Bar
	text atomic.Value
}

// Busy begins a line for work whose length is unknown. On anything but a
// terminal it writes the line once.
//
// In a log of CI a line that changes would be a thousand lines.
func (c *Console) Busy(label, text string) *Progress { return progress(c, label, text, 0) }

// Bytes begins a line for work of so many bytes.
func (c *Console) Bytes(label string, total int64) *Progress { return progress(c, label, "", total) }

// progress begins a line that shows how far something is; total is its end in
// bytes, 0 if that is not known. Without a terminal nothing is drawn: what is
// piped should hold results only.
func progress(c *Console, label, text string, total int64) *Progress {
	p := &Progress{}
	p.text.Store(text)
	if !c.ErrTerm {
		return p
	}

	p.pool = mpb.New(mpb.WithOutput(os.Stderr), mpb.WithWidth(28), mpb.WithRefreshRate(120*time.Millisecond))
	name := decor.Name("  " + Faint(fmt.Sprintf("%-9s", label)) + " ")
	if total == 0 {
		p.bar = p.pool.New(0, mpb.SpinnerStyle("·  ", "·· ", "···", " ··", "  ·", "   ").
			PositionLeft(), mpb.BarRemoveOnComplete(),
			mpb.BarWidth(3), mpb.PrependDecorators(name), mpb.AppendDecorators(
				decor.Elapsed(decor.ET_STYLE_GO),
				decor.Any(func(decor.Statistics) string {
					return "  " + cut(p.text.Load().(string),
						90)
				})))
		return p
	}

	p.bar = p.pool.New(total, mpb.BarStyle().Lbound("").Rbound("").Filler("━").Tip("╸").
		Padding("─"), mpb.BarRemoveOnComplete(), mpb.BarFillerTrim(),
		mpb.PrependDecorators(name), mpb.AppendDecorators(decor.Name("  "),
			decor.Counters(decor.SizeB1000(0), "% .1f of % .1f"), decor.Name("  "),
			decor.AverageSpeed(decor.SizeB1000(0), "% .1f"), decor.Any(left(time.Now())),
			decor.Any(func(decor.Statistics) string { return "  " + p.text.Load().(string) })))
	return p
}

// left returns what says how long something will still
// take if it goes on as it did since then.
func left(since time.Time) func(decor.Statistics) string {
	return func(s decor.Statistics) string {
		if s.Current == 0 || s.Current >= s.Total {
			return ""
		}
		return "  " + Took(time.Duration(float64(time.Since(since))*float64(s.Total-s.Current)/float64(
			s.Current))) + " left"
	}
}

// Text changes what the line says.
func (p *Progress) Text(text string) { p.text.Store(text) }

// At moves the bar.
func (p *Progress) At(done int64) {
	if p.bar != nil {
		p.bar.SetCurrent(done)
	}
}

// End takes the line away.
func (p *Progress) End() {
	if p.bar == nil {
		return
	}
	p.bar.Abort(true)
	p.pool.Wait()
	p.bar = nil
}

// cut shortens a text to a number of characters.
func cut(text string, width int) string {
	if runes := []rune(text); len(runes) > width {
		return string(runes[:width-1]) + "…"
	}
	return text
}
