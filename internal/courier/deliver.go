package courier

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"slices"
	"sync"
	"time"

	"orilla.example/orilla/internal/core/notices"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/source"
)

// Each recipient has a queue of its own, and a state of its own: how often the first notice of the
// queue was tried, and when it is tried again. One that is down, slow or wrong keeps nobody else
// from hearing; but it does hear in order, so what is behind the first one waits with it.
//
//	taken              the next one
//	refused for good   given up, the next one: another notice may be taken
//	anything else      a pause, which grows; after three days it is given up
//	the command ends   no pause: the next command tries at once

// recipient is one who is told: an address of mail, a webhook, a command.
type recipient struct {
	notice string // its name in orilla.yaml
	to     string // for people: "crew@corvane.example"
	send   sender
}

// sender sends one event. Its error is a refusal if trying again would change nothing.
type sender interface {
	send(ctx context.Context, event notices.Event) error
}

// refusal is an error of which the next try would be as good: the recipient does not want this
// notice, whatever is sent it next.
type refusal struct{ error }

// Unwrap returns the cause.
func (r refusal) Unwrap() error { return r.error }

// missing is the error of what this machine has not got.
type missing struct{ variable string }

// Error says which variable is not set.
func (m missing) Error() string { return m.variable + " is not set here" }

// recipientsOf lists who is told, by a name that stays the same: that of the notice, and of mail the
// address, since each address is a recipient of its own. One that is wrong holds up no other.
func recipientsOf(o Options) map[string]recipient {
	list := map[string]recipient{}
	for name, notice := range o.Config.Notices {
		switch {
		case len(notice.Mail) > 0:
			for _, address := range notice.Mail {
				list[name+" "+address] = recipient{name, address, &mailer{o, address}}
			}
		case notice.Webhook != "":
			list[name] = recipient{name, notice.Webhook, &webhook{o, notice}}
		default:
			list[name] = recipient{name, notice.Command, &command{o, notice}}
		}
	}
	return list
}

// Recipient is one who is told, for people.
type Recipient struct {
	ID     string // as the record names it
	Notice string // its name in orilla.yaml
	To     string
	Way    string // "mail", "webhook", "command"
	Wants  notices.Wants
	// Lacks says what this machine needs to send it, and has not got; "" if nothing.
	Lacks string
}

// Recipients lists who is told, in order of their names.
func Recipients(o Options) (list []Recipient) {
	all := recipientsOf(o)
	for _, id := range slices.Sorted(maps.Keys(all)) {
		r := all[id]
		one := Recipient{ID: id, Notice: r.notice, To: r.to, Wants: o.Config.Notices[r.notice].Wants()}
		one.Way, one.Lacks = ways(r.send)
		list = append(list, one)
	}
	return list
}

// What is missing is found out by the same functions that will need it, so that what doctor says and
// what a deploy meets are the same.

// ways says which way a notice goes, and what of that is missing here.
func ways(s sender) (way, lacks string) {
	var err error
	switch s := s.(type) {
	case *mailer:
		way = "mail"
		_, _, err = s.credentials()
	case *webhook:
		way = "webhook"
		_, err = s.secret()
	case *command:
		way = "command"
		_, err = s.secrets()
	}
	if err != nil {
		lacks = err.Error()
	}
	return way, lacks
}

// deliver sends what is due to all recipients, side by side.
func (c *Courier) deliver(ctx context.Context) {
	c.write(ctx) //nolint:errcheck // what is queued is found again
	c.mutex.Lock()
	recipients := maps.Clone(c.recipients)
	c.mutex.Unlock()
	var group sync.WaitGroup
	slots := make(chan struct{}, atOnce)
	for _, name := range slices.Sorted(maps.Keys(recipients)) {
		slots <- struct{}{}
		group.Go(func() {
			defer func() { <-slots }()
			c.deliverTo(ctx, name, recipients[name])
		})
	}
	group.Wait()
}

// deliverTo sends what is due to one recipient, in order, until one is not taken.
func (c *Courier) deliverTo(ctx context.Context, name string, to recipient) {
	for !isClosed(c.ending) && ctx.Err() == nil {
		ref, due := c.due(name)
		if !due {
			return
		}
		began := c.options.Now()
		err := c.attempt(ctx, to, ref)
		if !c.note(ctx, name, ref, c.options.Now().Sub(began), err) {
			return
		}
	}
}

// due returns what a recipient is to be told next.
func (c *Courier) due(name string) (notices.Ref, bool) {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	queue := c.record.Queues[name]
	if queue == nil { // nobody tells it any more
		return notices.Ref{}, false
	}
	return queue.Due(c.options.Now(), c.options.Force)
}

// note notes what came of an attempt, and reports whether to go on to the next notice.
func (c *Courier) note(ctx context.Context, name string, ref notices.Ref, took time.Duration, err error,
) bool {
	c.mutex.Lock()
	defer c.mutex.Unlock()
	queue, now := c.record.Queues[name], c.options.Now()
	if queue == nil || len(queue.Waiting) == 0 || queue.Waiting[0] != ref {
		return false // orilla.yaml says otherwise since
	}
	c.dirty = true
	defer c.writeLocked(context.WithoutCancel(ctx)) //nolint:errcheck // sent again, with the same id
	if err == nil {
		c.record.Sent(name, now, took)
		c.summary.Sent = append(c.summary.Sent, *c.record.Last(name))
		delete(c.summary.Problems, name)
		return true
	}
	if ctx.Err() != nil { // the command ends: that is nobody's fault, and it may have arrived
		queue.Problem = "not taken within " + took.Round(100*time.Millisecond).String()
		c.summary.Problems[name] = queue.Problem
		return false
	}
	refused, final := errors.AsType[refusal](err)
	if final {
		err = refused.error
	}
	waiting := len(queue.Waiting)
	problem := notices.OneLine(err.Error(), longestProblem)
	c.record.Failed(name, now, took, problem, final)
	c.summary.Problems[name] = problem
	if len(queue.Waiting) == waiting {
		return false
	}
	c.summary.GivenUp = append(c.summary.GivenUp, *c.record.Last(name))
	delete(c.summary.Problems, name)
	return true
}

// longestProblem bounds what is kept of why a notice was not taken: the other side says it.
const longestProblem = 300

// attempt sends one notice once.
func (c *Courier) attempt(ctx context.Context, to recipient, ref notices.Ref) error {
	ctx, cancel := context.WithTimeout(ctx, attemptTime)
	defer cancel()
	c.mutex.Lock()
	options := c.options
	c.mutex.Unlock()
	data, err := describe(ctx, options, ref)
	if err != nil {
		return fmt.Errorf("the store does not say what happened: %w", err)
	}
	return to.send.send(ctx, notices.NewEvent(ref, data))
}

// Try sends one notice to one recipient, as a test: nothing is noted of it.
func Try(ctx context.Context, o Options, id, why string) error {
	ctx, cancel := context.WithTimeout(ctx, attemptTime)
	defer cancel()
	to, ok := recipientsOf(o)[id]
	if !ok {
		return fmt.Errorf("no recipient %s", id)
	}
	ref := notices.Ref{Kind: notices.Test, Environment: project.Production, When: o.Now().UTC()}
	data := notices.Data{Site: o.Site, Who: source.PersonName(o.Who), Why: why,
		Next: []string{"orilla notices"}}
	err := to.send.send(ctx, notices.NewEvent(ref, data))
	if refused, final := errors.AsType[refusal](err); final {
		return refused.error
	}
	return err
}
