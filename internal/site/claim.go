package site

import (
	"context"
	"crypto/rand"
	"errors"
	"os"
	"os/user"
	"slices"
	"strings"
	"time"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/record"
	"orilla.example/orilla/internal/core/storage"
	"orilla.example/orilla/internal/source"
)

// Claim says whose the name of a site is.
type Claim struct {
	record.Claim
	held bool // it is in the store
}

// Owner tells a repository from another by its first commits, and a folder
// without Git by where it lies.
func Owner(ctx context.Context, p *Project) (roots []string, folder string, err error) {
	if p.Repository != nil {
		roots, err = p.Repository.Roots(ctx)
		if err == nil && len(roots) > 0 {
			return roots, "", nil
		}
		if _, known := errors.AsType[*fault.Error](err); known || ctx.Err() != nil {
			return nil, "", errors.Join(err, ctx.Err())
		}
		// a repository without a commit yet is a folder
	}

	host, _ := os.Hostname()
	name := "somebody"
	if current, err := user.Current(); err == nil {
		name = current.Username
	}
	return nil, name + "@" + host + ":" + p.Root, nil
}

// owner is Owner, also for a clone whose history is cut off, as CI systems make
// them: there the remote is asked whether it has the first commit that the
// claim names, which costs that one commit; only for a name that nobody has,
// all of the history is fetched.
func owner(ctx context.Context, p *Project, store storage.Store, site string,
) (roots []string, folder string, err error) {
	roots, folder, err = Owner(ctx, p)
	if !errors.Is(err, source.ErrShallow) {
		return roots, folder, err
	}
	// In CI the first commit is mostly not there. If the server has the commit
	// that the claim names, the repository is the right one: one fetch of one
	// commit.
	shallow := err
	claim, err := ReadClaim(ctx, store, site)
	if err != nil && !errors.Is(err, storage.ErrNotFound) {
		return nil, "", err
	}

	branch := p.Repository.Branch(ctx)
	for _, root := range claim.Roots {
		if there, err := p.Repository.FetchCommit(ctx, branch, root); err == nil && there {
			return []string{root}, "", nil
		}
	}

	if err := p.Repository.FetchMore(ctx, "", "", 0); err != nil {
		if problem, ok := errors.AsType[*fault.Error](shallow); ok {
			return nil, "", problem.Because(err).
				Then("or check out the full history: in most CI systems a depth of 0")
		}
	}
	return Owner(ctx, p)
}

// ReadClaim returns the claim of a site's name, or storage.ErrNotFound.
func ReadClaim(ctx context.Context, store storage.Store, site string) (Claim, error) {
	claim, err := record.ReadClaim(ctx, store, site)
	if errors.Is(err, record.ErrUnreadable) {
		err = fault.New(fault.Failed, "claim-damaged", "cannot read the owner of the name %s",
			site).At("%s", storage.ClaimKey(site)).
			Because(err).Then("check that record, or add --take-over to replace it")
	}
	return Claim{Claim: claim}, err
}

// CheckClaim makes sure that the site's name belongs to this project, or is
// free, and changes nothing. It returns the claim that Take makes. ask is
// called before a folder without Git takes a free name; it returns nil to go
// on. With takeOver the name may be anybody's.
func CheckClaim(ctx context.Context, p *Project, store storage.Store, site string, takeOver bool,
	ask func() error,
) (Claim, error) {
	roots, folder, err := owner(ctx, p, store, site)
	if err != nil {
		return Claim{}, err
	}
	mine := Claim{Claim: record.Claim{Site: site, Incarnation: strings.ToLower(rand.Text()), Roots: roots,
		Folder: folder,
		Who:    p.Person(ctx), When: time.Now().UTC().Truncate(time.Second)}}

	if takeOver {
		return mine, nil
	}
	claim, err := ReadClaim(ctx, store, site)
	switch {
	case errors.Is(err, storage.ErrNotFound) && folder != "":
		return mine, ask()
	case errors.Is(err, storage.ErrNotFound):
		return mine, nil
	case err == nil && !claim.owns(mine):
		return mine, notYours(claim, mine)
	}
	mine.held = err == nil
	return mine, err
}

// Take claims the site's name for the project that CheckClaim found, unless it
// has it already. It is called just before the first record that counts, so a
// deploy that is refused earlier does not keep the name. takeOver takes the
// name from its present owner.
func (c Claim) Take(ctx context.Context, store storage.Store, takeOver bool) error {
	if c.held {
		return nil
	}
	// Read, and then create if it is absent; another one may come between the
	// two.
	for range 3 {
		claim, err := ReadClaim(ctx, store, c.Site)
		switch {
		case err == nil && claim.owns(c):
			return nil
		case err == nil && !takeOver:
			return notYours(claim, c)
		case takeOver && !errors.Is(err, storage.ErrNotFound):
			if err == nil {
				c.Incarnation = claim.Incarnation
			}
			data, err := c.Encode()
			if err != nil {
				return err
			}
			return store.Replace(ctx, storage.ClaimKey(c.Site), data)
		case !errors.Is(err, storage.ErrNotFound):
			return err
		}

		data, err := c.Encode()
		if err != nil {
			return err
		}
		if err := store.Create(ctx, storage.ClaimKey(c.Site), data); !errors.Is(err, storage.ErrExists) {
			return err
		}
	}

	return errors.New("the owner of the name keeps changing")
}

// owns reports whether a claim is of the same repository or folder as another
// one. Repositories that have any first commit in common are the same:
// histories are joined and split.
func (c Claim) owns(other Claim) bool {
	if c.Folder != "" && c.Folder == other.Folder {
		return true
	}
	// One first commit in common is enough: merged repositories have several.
	return slices.ContainsFunc(c.Roots, func(root string) bool { return slices.Contains(other.Roots, root) })
}

// notYours is the refusal of a name that belongs to somebody else.
func notYours(claim, mine Claim) error {
	owner, self := claim.Folder, mine.Folder
	if owner == "" {
		owner = "the repository that began with commit " + claim.Roots[0][:min(7, len(claim.Roots[0]))]
	}
	if self == "" {
		self = "this repository began with " + mine.Roots[0][:min(7, len(mine.Roots[0]))]
	} else {
		self = "this is " + self
	}

	return fault.New(fault.Refused, "name-taken", "the name %s belongs to %s", claim.Site, owner).
		With(self, "claimed by "+claim.Who+" on "+claim.When.Format(time.DateOnly)).
		Then("choose another name: site: in orilla.yaml").
		Then("or, to take it over, add --take-over")
}

// TakeName takes the site's name for a project that runs by itself.
func TakeName(ctx context.Context, p *Project, store storage.Store, site string) error {
	claim, err := CheckClaim(ctx, p, store, site, false, func() error { return nil })
	if err != nil {
		return err
	}
	return claim.Take(ctx, store, false)
}
