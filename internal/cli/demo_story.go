package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"strings"

	"orilla.example/orilla/internal/core/builds"
	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/project"
	"orilla.example/orilla/internal/demo"
)

// The hosts of the demo's previews.
var (
	winterHost = project.BranchLabel(demo.Winter) + ".preview.corvane.localhost"
	rightHost  = project.BranchLabel(demo.Correction) + ".preview.corvane.localhost"
)

// The story is told by the program's own commands, and each of its claims is looked at where a
// visitor would: a demo that says more than is true is worse than none.

// tellPreview is the part of the story in which a branch
// is shown, compared and promoted.
func (t *tale) tellPreview(ctx context.Context) error {
	// A branch, and what others see of it.
	t.say("Tobias plans the winter on a branch. Its first build creates a preview with its own URL.")
	if err := demo.PlanWinter(ctx, t.project); err != nil {
		return err
	}

	if err := t.run(ctx, "deploy", demo.Winter); err != nil {
		return err
	}
	t.shows(ctx, "the preview has the new times", winterHost, "/sailings/winter", "08:40")
	t.check(ctx, "production has the old ones", "/sailings/winter", 200, "09:00")
	t.say("It is not public yet: visitors need a password, and " +
		"the harbour office gets a link.")

	if err := t.run(ctx, "password", "preview/"+demo.Winter, "--generate"); err != nil {
		return err
	}
	status, _, err := getOnce(ctx, t, winterHost, "/sailings/winter")
	t.claim(ctx, "the preview asks for the password", err == nil && status == http.StatusUnauthorized)
	var share struct{ Links []string }
	if err := t.report(ctx, &share, "preview", "share", demo.Winter, "--for", "3d", "-m",
		"for the harbour office"); err != nil {
		return err
	}

	t.claim(ctx, "the link opens it", t.opens(ctx, share.Links, "08:40"))
	if err := t.run(ctx, "diff", "production", "preview/"+demo.Winter); err != nil {
		return err
	}
	t.say("The harbour office agrees, so exactly this release goes live, without a build. Orilla " +
		"then checks a page at the edge;\nif it failed, production would roll back by itself.")

	t.objects = countObjects(ctx, t)
	built, err := builds.Runs{Store: t.store, Site: "corvane"}.Last(ctx, 0)
	if err != nil {
		return err
	}

	if err := t.run(ctx, "promote", "preview/"+demo.Winter, "--to", "production", "--wait-for",
		"/sailings/winter", "--wait-for", "/sailings/holidays", "-m",
		"the harbour office agrees"); err != nil {
		return err
	}

	t.check(ctx, "the new times are live", "/sailings/winter", 200, "08:40")
	again, err := builds.Runs{Store: t.store, Site: "corvane"}.Last(ctx, 0)
	t.claim(ctx, "nothing was built or uploaded for it",
		err == nil && built == again && countObjects(ctx, t) == t.objects)
	s := &session{store: t.store, site: "corvane"}
	live, err := s.head(ctx, "production")
	shown, showErr := s.head(ctx, "preview."+project.BranchLabel(demo.Winter))
	t.claim(ctx, "the live release is the one that was reviewed",
		errors.Join(err, showErr) == nil && live.Release == shown.Release)

	return nil
}

// tellMistake is the part of the story in which a mistake
// goes live and is taken back.
func (t *tale) tellMistake(ctx context.Context) error {
	t.say("The branch is merged. But the main branch also has a mistake: a car to Lindmouth for " +
		"4.30 instead of 43.00.")
	if err := demo.MergeWinter(ctx, t.project); err != nil {
		return err
	}

	if err := t.run(ctx, "deploy"); err != nil {
		return err
	}
	t.check(ctx, "the wrong fare is live", "/fares.html", 200, ">4.30<")
	t.say("It must be gone now.")
	t.objects = countObjects(ctx, t)
	if err := t.run(ctx, "rollback", "-m", "a car to Lindmouth for 4.30"); err != nil {
		return err
	}

	t.check(ctx, "the right fare is back", "/fares.html", 200, ">42.00<")
	t.check(ctx, "the winter times are still there", "/sailings/winter", 200, "08:40")
	asks(ctx, t, "so are the rules", "/timetable/winter", "", "301 /sailings/winter")
	t.claim(ctx, "a rollback uploads nothing", countObjects(ctx, t) == t.objects)
	t.say("Automatic deploys wait until someone thaws production, so the next commit does not " +
		"bring the mistake back.")

	if err := t.run(ctx, "history"); err != nil {
		return err
	}
	s := &session{store: t.store, site: "corvane"}
	number, err := s.journal("production").HeadNumber(ctx, 0)
	t.claim(ctx, "the journal has seven entries", err == nil && number == 7)
	return nil
}

// tellFollow is the part of the story in which commits are built by themselves.
func (t *tale) tellFollow(ctx context.Context) error {
	t.say("Tobias fixes the fare on a branch. orilla follow builds every new commit: here once, as " +
		"in CI. The rollback stays;\nthe branch gets a preview.")
	if err := demo.Correct(ctx, t.project); err != nil {
		return err
	}

	if err := t.run(ctx, "follow", "--once"); err != nil {
		return err
	}
	t.shows(ctx, "the preview shows the right fare", rightHost, "/fares", ">43.00<")
	t.check(ctx, "production is unchanged", "/fares.html", 200, ">42.00<")
	t.say("It was reviewed, so it is merged. Production is frozen: the new release is ready, and waits.")
	if err := demo.Merge(ctx, t.project); err != nil {
		return err
	}

	built, err := builds.Runs{Store: t.store, Site: "corvane"}.Last(ctx, 0)
	if err != nil {
		return err
	}
	if err := t.run(ctx, "follow", "--once"); err != nil {
		return err
	}

	if err := t.run(ctx, "status"); err != nil {
		return err
	}
	t.check(ctx, "production is still unchanged", "/fares.html", 200, ">42.00<")
	t.say("thaw shows what will go live, and asks; here --yes answers.")
	if err := t.run(ctx, "thaw", "--yes", "-m", "the fare is right"); err != nil {
		return err
	}

	again, err := builds.Runs{Store: t.store, Site: "corvane"}.Last(ctx, 0)
	t.check(ctx, "the right fare is live", "/fares.html", 200, ">43.00<")
	t.claim(ctx, fmt.Sprintf("the merge built nothing (%d builds)", again), err == nil && built == again)
	t.say("The winter branch is merged, so it is deleted. Its preview goes with it; the URL says " +
		"where the work went.")

	if err := demo.DropWinter(ctx, t.project); err != nil {
		return err
	}
	if err := t.run(ctx, "follow", "--once"); err != nil {
		return err
	}
	t.gone(ctx, "its URL says that it is gone, and where to look", winterHost, "corvane.localhost")
	return t.run(ctx, "builds")
}

// shows claims that a page of a host has a text. An environment that is new is
// known to the edge node within moments.
func (t *tale) shows(ctx context.Context, what, host, path, text string) {
	if !t.once {
		return
	}
	_, body, err := getFrom(ctx, t, host, path)
	t.claim(ctx, what+" ("+host+path+")", err == nil && strings.Contains(body, text))
}

// gone claims that a host answers 410 with a text, within moments.
func (t *tale) gone(ctx context.Context, what, host, text string) {
	if !t.once {
		return
	}
	holds := t.within(func() bool {
		status, body, err := getOnce(ctx, t, host, "/")
		return err == nil && status == http.StatusGone && strings.Contains(body, text)
	})
	t.claim(ctx, what+" ("+host+": 410)", holds)
}

// opens reports whether one of the links that were shared leads, with the
// cookie that it sets, to a page with a text.
func (t *tale) opens(ctx context.Context, links []string, text string) bool {
	for _, link := range links {
		at, err := url.Parse(link)
		if err != nil {
			return false
		}
		request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://"+t.address+at.Path+
			"sailings/winter", nil)
		if err != nil {
			return false
		}

		request.Host = at.Host
		response, err := http.DefaultTransport.RoundTrip(request)
		if err != nil {
			return false
		}

		response.Body.Close() //nolint:errcheck // only the header counts
		if len(response.Cookies()) == 0 {
			return false
		}
		request, err = http.NewRequestWithContext(ctx, http.MethodGet, "http://"+t.address+
			response.Header.Get("Location"), nil)
		if err != nil {
			return false
		}

		request.Host = at.Host
		request.AddCookie(response.Cookies()[0])
		var body bytes.Buffer
		response, err = http.DefaultClient.Do(request)
		if err != nil {
			return false
		}

		_, err = body.ReadFrom(response.Body)
		response.Body.Close() //nolint:errcheck // read already
		if err != nil || !strings.Contains(body.String(), text) {
			return false
		}
	}
	return len(links) > 0
}

// report shows a command, runs it twice over in one: with --json for the story,
// and what it says besides for whoever reads it.
func (t *tale) report(ctx context.Context, into any, args ...string) error {
	t.announce(args)
	self, err := os.Executable()
	if err != nil {
		return err
	}

	command := exec.CommandContext(ctx, self, append(args, "--json")...)
	command.Dir, command.Env = t.project, t.environment()
	command.Stderr = os.Stderr
	out, err := command.Output()
	if err == nil {
		err = json.Unmarshal(out, into)
	}
	if err != nil {
		return fault.New(fault.Failed, "demo", "this step of the demo failed: orilla %s",
			strings.Join(args, " ")).Because(err).Then("orilla doctor")
	}
	t.Print("%s", strings.TrimSpace(string(out)))
	return nil
}
