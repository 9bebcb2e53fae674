package view

import (
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/console"
	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/courier"
)

// Three things are asked of notices: is everybody told whom I want to be told; was this one sent;
// and what hangs, and why. The report answers them in this order, and ends with the third, which
// is what somebody can do something about:
//
//	NOTICE  TO                        ABOUT      WHERE               SENT  WAITING
//	crew    mail crew@corvane.example the usual  fixed environments    41        1
//	SENT       WHAT                   TO                         TOOK
//	4 min ago  production:12  live    crew crew@corvane.example  80 ms
//	not taken  crew crew@corvane.example: it answered 451  (2 tries; again in 4 min)
//	next: orilla notices send

// NoticesReport is who is told of what, what was sent, and what waits.
type NoticesReport struct {
	Site       string            `json:"site"`
	Recipients []NoticeRecipient `json:"recipients"`
	Waiting    []NoticeWaiting   `json:"waiting"` // the next one of each recipient first
	Sent       []NoticeSent      `json:"sent"`    // the newest first; also those that were given up
}

// NoticeRecipient is one who is told.
type NoticeRecipient struct {
	Notice       string      `json:"notice"` // its name in orilla.yaml
	Way          string      `json:"way"`    // mail, webhook, command
	To           string      `json:"to"`
	About        []string    `json:"about"`
	Environments []string    `json:"environments"` // patterns; none: the fixed environments
	Sent         int64       `json:"sent"`
	Waiting      int         `json:"waiting"`
	Last         *NoticeSent `json:"last,omitempty"`
	Lacks        string      `json:"lacks,omitempty"`   // what this machine has not got
	Problem      string      `json:"problem,omitempty"` // why the next one was not taken
	Tries        int         `json:"tries,omitempty"`
	Next         *time.Time  `json:"next,omitempty"` // when it is tried again
}

// NoticeWaiting is a notice that is still to be sent.
type NoticeWaiting struct {
	ID   string    `json:"id"`
	Kind string    `json:"kind"`
	What string    `json:"what"` // production:12
	To   string    `json:"to"`   // the name in orilla.yaml, and of mail the address
	When time.Time `json:"when"` // it happened
}

// NoticeSent is one that was sent, or given up.
type NoticeSent struct {
	NoticeWaiting
	Sent         time.Time `json:"sent"`
	Milliseconds int64     `json:"milliseconds"`
	Tries        int       `json:"tries"`
	Problem      string    `json:"problem,omitempty"` // why it was given up
}

// NoticeTried is how a recipient took a test.
type NoticeTried struct {
	Notice       string `json:"notice"`
	Way          string `json:"way"`
	To           string `json:"to"`
	Milliseconds int64  `json:"milliseconds"`
	Problem      string `json:"problem,omitempty"`
}

// NoticeSummary is what a command sent.
type NoticeSummary struct {
	Sent     []NoticeSent    `json:"sent"`
	Waiting  int             `json:"waiting"`
	Problems []NoticeProblem `json:"problems,omitempty"`
}

// NoticeProblem is why a recipient did not take a notice.
type NoticeProblem struct {
	To      string `json:"to"`
	Problem string `json:"problem"`
}

// waitingOf describes a notice.
func waitingOf(to string, ref notices.Ref) NoticeWaiting {
	return NoticeWaiting{ref.ID(), string(ref.Kind), ref.Subject(), to, ref.When}
}

// sentOf describes a notice that was sent, or given up.
func sentOf(done notices.Done) NoticeSent {
	return NoticeSent{waitingOf(done.To, done.Ref), done.When, done.Milliseconds, done.Tries, done.Problem}
}

// A recipient is listed also before it was ever told of anything, and one that orilla.yaml names no
// more is not: what waited for it is dropped by the next command that sends.

// NewNotices describes who is told, and what a record says of it; nil if nothing was ever sent.
func NewNotices(site string, recipients []courier.Recipient, record *notices.Record) NoticesReport {
	r := NoticesReport{Site: site, Recipients: []NoticeRecipient{}, Waiting: []NoticeWaiting{},
		Sent: []NoticeSent{}}
	if record == nil {
		record = &notices.Record{}
	}
	for _, to := range recipients {
		one := NoticeRecipient{Notice: to.Notice, Way: to.Way, To: to.To, Lacks: to.Lacks,
			Sent: record.Counts[to.ID], Environments: append([]string{}, to.Wants.Environments...)}
		for _, kind := range to.Wants.Kinds {
			one.About = append(one.About, string(kind))
		}
		if queue := record.Queues[to.ID]; queue != nil {
			one.Waiting, one.Problem = len(queue.Waiting), queue.Problem
			one.Tries, one.Next = queue.Tries, queue.Next
			for _, ref := range queue.Waiting {
				r.Waiting = append(r.Waiting, waitingOf(to.ID, ref))
			}
		}
		if last := record.Last(to.ID); last != nil {
			sent := sentOf(*last)
			one.Last = &sent
		}
		r.Recipients = append(r.Recipients, one)
	}
	for _, done := range slices.Backward(record.Done) {
		r.Sent = append(r.Sent, sentOf(done))
	}
	return r
}

// NewNoticeSummary describes what a command sent.
func NewNoticeSummary(s courier.Summary) NoticeSummary {
	r := NoticeSummary{Sent: []NoticeSent{}, Waiting: s.Left}
	for _, done := range slices.Concat(s.Sent, s.GivenUp) {
		r.Sent = append(r.Sent, sentOf(done))
	}
	for _, to := range slices.Sorted(maps.Keys(s.Problems)) {
		r.Problems = append(r.Problems, NoticeProblem{to, s.Problems[to]})
	}
	return r
}

// Fourteen kinds do not fit into a column, and mostly one of the two lists is asked for that have
// a word.

// aboutText says which kinds in few words.
func aboutText(about []string) string {
	usual := make([]string, 0, len(notices.Usual))
	for _, kind := range notices.Usual {
		usual = append(usual, string(kind))
	}
	switch {
	case len(about) == len(notices.All):
		return "everything"
	case slices.Equal(about, usual):
		return "the usual"
	}
	return strings.Join(about, ", ")
}

// environmentsText says which environments.
func environmentsText(patterns []string) string {
	if len(patterns) == 0 {
		return "fixed environments"
	}
	if slices.Contains(patterns, "*") {
		return "all environments"
	}
	return strings.Join(patterns, ", ")
}

// PrintNotices shows who is told, what was sent, and last what waits and why.
func PrintNotices(c *console.Console, r NoticesReport, limit int) {
	c.Print("%s  %s", console.Strong("notices of "+r.Site),
		console.Faint("as orilla.yaml of the production branch says"))
	rows := [][]string{{"NOTICE", "TO", "ABOUT", "WHERE", "SENT", "WAITING"}}
	for _, one := range r.Recipients {
		waiting := fmt.Sprint(one.Waiting)
		if one.Waiting > 0 {
			waiting = console.Warn(waiting)
		}
		rows = append(rows, []string{console.Accent(one.Notice), one.Way + " " + one.To, aboutText(one.About),
			environmentsText(one.Environments), fmt.Sprint(one.Sent), waiting})
	}
	c.Table(rows, 4, 5)
	printNoticesSent(c, r.Sent, limit)
	trouble := false
	for _, one := range r.Recipients {
		if one.Lacks != "" {
			c.Print("%s  %s: %s", console.Bad("cannot send"), one.Notice, one.Lacks)
			trouble = true
		}
		if one.Problem != "" && one.Waiting > 0 {
			text := fmt.Sprintf("%s %s: %s", one.Notice, one.To, one.Problem)
			if one.Next != nil {
				tries := console.Count(int64(one.Tries), "try", "tries")
				text += console.Faint(fmt.Sprintf("  (%s; again %s)", tries, againText(c, *one.Next)))
			}
			c.Print("%s  %s", console.Warn("not taken"), text)
			trouble = true
		}
	}
	if len(r.Waiting) > 0 {
		c.Hint("next:", "orilla notices send")
	} else if len(r.Sent) == 0 && !trouble {
		c.Hint("next:", "orilla notices test")
	}
}

// Nothing runs by itself between two commands, so "in 4 min" means the first command after that.

// againText says when something is tried again.
func againText(c *console.Console, when time.Time) string {
	if !when.After(c.Now()) {
		return "with the next command"
	}
	return c.Until(when)
}

// The list is of the last two hundred, which is what the record keeps: notices are news, and the
// journals are the history.

// printNoticesSent lists what was sent.
func printNoticesSent(c *console.Console, sent []NoticeSent, limit int) {
	if len(sent) == 0 {
		c.Print("%s", console.Faint("nothing was sent yet"))
		return
	}
	rows := [][]string{{"SENT", "WHAT", "", "TO", "TOOK"}}
	shown := sent
	if limit > 0 {
		shown = sent[:min(limit, len(sent))]
	}
	for _, one := range shown {
		took := console.Took(time.Duration(one.Milliseconds) * time.Millisecond)
		if one.Tries > 1 {
			took += fmt.Sprintf(", %d tries", one.Tries)
		}
		if one.Problem != "" {
			took = console.Bad("given up: ") + one.Problem
		}
		rows = append(rows, []string{c.Age(one.Sent), one.What, one.Kind, one.To, took})
	}
	c.Table(rows)
	if len(shown) < len(sent) {
		c.Print("%s", console.Faint(fmt.Sprintf("and %d more; orilla notices -n 0", len(sent)-len(shown))))
	}
}

// PrintTried shows how recipients took a test.
func PrintTried(c *console.Console, tried []NoticeTried) {
	for _, one := range tried {
		took := time.Duration(one.Milliseconds) * time.Millisecond
		text := console.Good("taken") + console.Faint("  in "+console.Took(took))
		if one.Problem != "" {
			text = console.Bad("not taken") + "  " + one.Problem
		}
		c.Print("%s  %s %s  %s", console.Accent(one.Notice), one.Way, one.To, text)
	}
}

// PrintSent shows what orilla notices send sent.
func PrintSent(c *console.Console, r NoticeSummary) {
	for _, one := range r.Sent {
		text := console.Good("sent")
		if one.Problem != "" {
			text = console.Bad("given up") + "  " + one.Problem
		}
		c.Print("%s  %s %s  %s", one.To, one.What, one.Kind, text)
	}
	for _, one := range r.Problems {
		c.Print("%s  %s  %s", one.To, console.Warn("not taken"), one.Problem)
	}
	if len(r.Sent) == 0 && len(r.Problems) == 0 {
		c.Print("nothing waits")
	}
}

// Beside another command notices are an aside: a faint line if all went well, and the reason with
// the command that tries again if not. They come last, after what the command itself did.

// PrintNoticeSummary tells beside another command what was sent, and what was not.
func PrintNoticeSummary(c *console.Console, s courier.Summary) {
	if len(s.Sent) > 0 {
		c.Row(c.Err, "notices", console.Faint(fmt.Sprintf("%d sent", len(s.Sent))))
	}
	for _, done := range s.GivenUp {
		c.Row(c.Err, "notices", console.Bad("given up")+"  "+done.To+": "+done.Problem)
	}
	switch {
	case errors.Is(s.Err, storage.ErrDenied), errors.Is(s.Err, storage.ErrReadOnly):
		// Rights that were given before there were notices lack theirs.
		c.Row(c.Err, "notices", console.Warn("not sent")+
			"  this account may not write what was sent (sites/SITE/notices/*)")
		c.Hint("next:", "orilla store init --policy")
	case s.Err != nil:
		c.Row(c.Err, "notices", console.Warn("not sent")+"  the store: "+s.Err.Error()+
			console.Faint("  the next command sends them"))
	case s.Busy:
		c.Row(c.Err, "notices", console.Faint("another Orilla sends them"))
	case s.Left > 0:
		for _, to := range slices.Sorted(maps.Keys(s.Problems)) {
			c.Row(c.Err, "notices", console.Warn("not taken")+"  "+to+": "+s.Problems[to])
		}
		c.Row(c.Err, "", console.Faint(fmt.Sprintf("%s; the next command tries again, or now: ",
			console.Count(int64(s.Left), "notice waits", "notices wait")))+c.Command("orilla notices send"))
	}
}
