package deploy

import (
	"context"
	"errors"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/environments"
	"orilla.example/orilla/internal/site"
)

// saysEnvironments reports whether a project's configuration says anything of
// environments: else theirs stays as it is.
func saysEnvironments(p *site.Project) bool { return p.Configured || p.ProductionCommit != "" }

// documentContent is what the production branch says of the plan's environment.
// A preview of a change from outside has the upstreams that are named for such:
// others may lead to what only this network reaches.
func documentContent(p *Prepared) journal.DocumentContent {
	production := p.Plan.Project.ProductionConfig
	content := production.Document(p.Plan.Environment)
	if p.Plan.Outside() && p.Plan.Environment != journal.Previews {
		content.Upstreams = production.Previews.RefUpstreams
	}
	return content
}

// documentOf makes the environment's document from what the production branch
// says. keep tells to leave the one that is there: it comes from a commit that
// this repository has already seen and passed, or does not know.
func documentOf(ctx context.Context, p *Prepared) (document journal.Document, keep bool, err error) {
	project := p.Plan.Project
	if !saysEnvironments(project) && p.head != nil {
		return document, true, nil
	}
	document, err = journal.NewDocument(documentContent(p), project.ProductionCommit)
	if err != nil {
		return document, false, err
	}

	// Who deploys from a checkout that is behind must not take addresses back
	// that a colleague has added. Ancestry decides which configuration is
	// newer; if it cannot be known, what is there stays.
	if p.head != nil && differentCommits(p.head.DocumentCommit, project.ProductionCommit) &&
		project.Repository != nil {
		newer, err := project.Repository.Contains(ctx, project.ProductionCommit, p.head.DocumentCommit)
		if err != nil || !newer {
			// Of previews as a whole nothing but where they are is said; the next deploy of a
			// newer checkout says it.
			if document.Digest != p.head.Document && p.Plan.Environment != journal.Previews {
				p.Report.Notice(fault.Notice{
					Code: "older-environment",
					What: "the addresses and upstreams of " + journal.DisplayName(p.Plan.Environment) +
						" stay as they are: a later commit than this production branch set them",
					Next: "git pull, then deploy again to change them",
				})
			}
			return document, true, ctx.Err()
		}
	}

	if document.Data != nil {
		err = keepDocument(ctx, p, document)
	}
	return document, false, err
}

// differentCommits reports whether both commits are known and differ.
func differentCommits(a, b string) bool { return a != "" && b != "" && a != b }

// keepDocument puts a document, unless the entry before names the same.
func keepDocument(ctx context.Context, p *Prepared, document journal.Document) error {
	if p.head != nil && p.head.Document == document.Digest {
		return nil
	}
	return untilKept(ctx, p, func(put *putting) error {
		_, err := put.Add(ctx, document.Digest.Key(), document.Data)
		return err
	})
}

// changeDocument writes, as an entry of its own, that the
// environment's document is another one, after it was
// shown. It returns the entry that was last then.
func changeDocument(ctx context.Context, p *Prepared, before journal.Entry, document journal.Document,
) (journal.Entry, error) {
	old, err := environments.DocumentOf(ctx, p.Store, before)
	if err != nil {
		return before, err
	}
	project := p.Plan.Project

	p.Report.Notice(fault.Notice{
		Code: "environment-changes",
		What: journal.DisplayName(p.Plan.Environment) + " changes, as orilla.yaml says on " +
			project.ProductionConfig.MainBranch(project.Main) + ":",
		Paths: document.Changes(old),
	})

	// A freeze keeps automation from changing anything, and a person from
	// nothing that they have been asked about.
	refusedByFreeze := p.Automatic && !p.accepted
	decide := journal.SetDocument(document, refusedByFreeze, p.Cause, project.Person(ctx), "", p.now())
	entry, err := p.journal().Append(ctx, before, decide)
	if errors.Is(err, journal.ErrAlready) { // somebody else has just done it
		refusal, _ := errors.AsType[*journal.Refusal](err)
		return refusal.Entry, nil
	}
	return entry, err
}
