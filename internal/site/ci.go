package site

import (
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/fault"
	"orilla.example/orilla/internal/core/journal"
	"orilla.example/orilla/internal/core/project"
)

// branchVariables are where CI systems say which branch a
// checkout is of, the more specific ones first. Of a
// proposed change it is the branch that is proposed.
var branchVariables = []string{
	"ORILLA_CI_BRANCH", "GITHUB_HEAD_REF", "CI_MERGE_REQUEST_SOURCE_BRANCH_NAME", "CI_COMMIT_BRANCH",
	"CHANGE_BRANCH", "BITBUCKET_BRANCH", "BUILDKITE_BRANCH", "CIRCLE_BRANCH",
	"DRONE_SOURCE_BRANCH", "DRONE_BRANCH", "CI_COMMIT_SOURCE_BRANCH", "SYSTEM_PULLREQUEST_SOURCEBRANCH",
	"BUILD_SOURCEBRANCH", "SEMAPHORE_GIT_BRANCH", "TRAVIS_PULL_REQUEST_BRANCH",
	"TRAVIS_BRANCH", "BRANCH_NAME", "GIT_BRANCH",
}

// CIBranch returns the branch that a CI system says its checkout is of, and the
// variable that says so; "" without one. Of systems that name tags in the same
// variable, a tag is no branch.
func CIBranch(getenv func(string) string) (branch, variable string) {
	// The name without "refs/heads/" is set for tags too, so the type is looked
	// at.
	if getenv("GITHUB_REF_TYPE") == "branch" && getenv("GITHUB_HEAD_REF") == "" &&
		getenv("GITHUB_REF_NAME") != "" {
		return getenv("GITHUB_REF_NAME"), "GITHUB_REF_NAME"
	}
	for _, variable := range branchVariables {
		value := getenv(variable)
		if strings.HasPrefix(value, "refs/") && !strings.HasPrefix(value, "refs/heads/") {
			continue
		}
		value = strings.TrimPrefix(value, "refs/heads/")
		if variable == "GIT_BRANCH" {
			value = strings.TrimPrefix(value, "origin/")
		}

		if value != "" && value != "HEAD" {
			return value, variable
		}
	}

	return "", ""
}

// refVariables are where CI systems give the full name of the ref that they check
// out, for proposed changes too.
var refVariables = []string{"ORILLA_CI_REF", "GITHUB_REF", "CI_MERGE_REQUEST_REF_PATH", "DRONE_COMMIT_REF",
	"CI_COMMIT_REF", "BUILD_SOURCEBRANCH", "SEMAPHORE_GIT_REF"}

// Change is a proposed change that a CI system has checked out.
type Change struct {
	Ref      string // followed, by its full name; "" for none
	Checkout string // the ref that is checked out: what a merge of the change would be, or Ref
	Variable string // that says so
}

// CIChange returns the proposed change that a CI system says its checkout is of.
// Some check out what a merge of the change would be: that is shown as the change.
func CIChange(getenv func(string) string, previews project.Previews) Change {
	for _, variable := range refVariables {
		ref := getenv(variable)
		if !strings.HasPrefix(ref, "refs/") || strings.HasPrefix(ref, "refs/heads/") {
			continue
		}
		if change, merge := strings.CutSuffix(ref, "/merge"); merge && previews.FollowsRef(change+"/head") {
			return Change{change + "/head", ref, variable}
		}
		if previews.FollowsRef(ref) {
			return Change{ref, ref, variable}
		}
	}
	return Change{}
}

// OtherRef reads what was typed as a branch: the full name of a followed ref that
// is no branch is one, and refs/heads/NAME the branch NAME. ref is "" for a branch.
func OtherRef(p *Project, typed string) (branch, ref string, err error) {
	name, isBranch := strings.CutPrefix(typed, "refs/heads/")
	if isBranch || !strings.HasPrefix(typed, "refs/") {
		return name, "", nil
	}
	if !p.ProductionConfig.Previews.FollowsRef(typed) {
		return "", "", fault.New(fault.Refused, "not-followed", "previews.refs excludes the ref %s", typed).
			Then("on the production branch, in orilla.yaml: previews: {refs: [%q]}", patternOf(typed))
	}
	return strings.TrimPrefix(typed, "refs/"), typed, nil
}

// patternOf makes a pattern of a ref that takes the others like it.
func patternOf(ref string) string {
	parts := strings.Split(ref, "/")
	for i, part := range parts {
		if part != "" && strings.Trim(part, "0123456789") == "" {
			parts[i] = "*"
		}
	}
	return strings.Join(parts, "/")
}

// proposalVariables are those of them that are set for a proposed change only.
var proposalVariables = []string{"GITHUB_HEAD_REF", "CI_MERGE_REQUEST_SOURCE_BRANCH_NAME", "CHANGE_BRANCH",
	"DRONE_SOURCE_BRANCH", "SYSTEM_PULLREQUEST_SOURCEBRANCH",
	"TRAVIS_PULL_REQUEST_BRANCH"}

// RefuseProposal refuses a proposed change whose branch is called like one that
// a fixed environment follows: somebody else's repository may have a branch of
// any name. variable is where the CI system says the branch.
func RefuseProposal(p *Project, branch, variable string) error {
	environment := p.ProductionConfig.Following(branch)
	if environment == "" || !slices.Contains(proposalVariables, variable) {
		return nil
	}
	return fault.New(fault.Refused, "proposed-change",
		"this checkout is a proposed change whose branch is called %s, like the branch that %s follows",
		branch, journal.DisplayName(environment)).
		At("%s", variable).Then("run this in CI only for pushes to %s", branch).
		Then("to preview proposed changes, create scripts for them: orilla init --ci")
}

// InCI reports whether a CI system runs this: nearly all of them say so by the
// first of these.
func InCI(getenv func(string) string) bool {
	for _, variable := range []string{"CI", "BUILD_ID", "TF_BUILD"} {
		if value := getenv(variable); value != "" && value != "false" && value != "0" {
			return true
		}
	}
	return false
}

// personVariables are where CI systems say for whom they work, the more specific
// ones first: a name, and an address to go with it.
var personVariables = [][2]string{
	{"ORILLA_CI_WHO", ""}, {"GITLAB_USER_NAME", "GITLAB_USER_EMAIL"}, {"GITHUB_ACTOR", ""},
	{"BUILDKITE_BUILD_CREATOR", "BUILDKITE_BUILD_CREATOR_EMAIL"}, {"CIRCLE_USERNAME", ""},
	{"CHANGE_AUTHOR_DISPLAY_NAME", "CHANGE_AUTHOR_EMAIL"},
	{"DRONE_COMMIT_AUTHOR_NAME", "DRONE_COMMIT_AUTHOR_EMAIL"},
	{"CI_COMMIT_AUTHOR", "CI_COMMIT_AUTHOR_EMAIL"}, {"BUILD_REQUESTEDFOR", "BUILD_REQUESTEDFOREMAIL"},
}

// ciPerson returns for whom a CI system says that it works; "" if it does not.
func ciPerson(getenv func(string) string) string {
	for _, one := range personVariables {
		name, address := getenv(one[0]), ""
		if one[1] != "" {
			address = getenv(one[1])
		}
		switch {
		case name == "":
			continue
		case address == "" || strings.Contains(name, "<"):
			return name
		}
		return name + " <" + address + ">"
	}
	return ""
}
