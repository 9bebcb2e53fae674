package s3

import (
	"encoding/json"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/storage"
)

// statement is one permission of a policy, as the policy language of S3 has it.
type statement struct {
	Effect    string
	Principal *principal `json:",omitempty"`
	Action    []string
	Resource  []string
	Condition map[string]map[string][]string `json:",omitempty"`
}

// principal is whom a statement of a policy is about.
type principal struct{ AWS []string }

// Policy returns a policy for a user: what a role needs, and nothing else. site
// limits a deployer to one site; "" for all.
//
// It is made from storage.Kinds, and printed as JSON that the server takes.
func (c Config) Policy(role storage.Role, site string) string {
	return policy(c.statements(role, site))
}

// BucketPolicy returns a policy for the bucket: what each role needs, for those
// who have it. site limits deployers to one site; "" for all.
func (c Config) BucketPolicy(who map[storage.Role][]string, site string) string {
	var all []statement
	for _, role := range storage.Roles {
		if len(who[role]) == 0 {
			continue
		}
		for _, s := range c.statements(role, site) {
			s.Principal = &principal{who[role]}
			all = append(all, s)
		}
	}
	return policy(all)
}

// policy writes statements as a policy document.
func policy(statements []statement) string {
	text, err := json.MarshalIndent(struct {
		Version   string
		Statement []statement
	}{"2012-10-17", statements}, "", "  ")
	if err != nil {
		panic(err) // texts only
	}
	return string(text)
}

// statements makes a role's rights of the table of kinds.
// Servers bound how long a policy may be, so what reads
// and writes everything below a folder is said in one.
func (c Config) statements(role storage.Role, site string) []statement {
	if role != storage.Deployer {
		site = "" // a node serves every site, and a prune must know what all of them need
	}
	bucket, prefix := "arn:aws:s3:::"+c.Bucket, ""
	if c.Prefix != "" {
		prefix = c.Prefix + "/"
	}

	resources := func(may func(storage.Kind) bool) (names []string) {
		for _, pattern := range patterns(may, site) {
			names = append(names, bucket+"/"+prefix+pattern)
		}
		return names
	}

	everything := func(storage.Kind) bool { return true }
	list := statement{Effect: "Allow", Action: []string{"s3:ListBucket"}, Resource: []string{bucket}}
	reads := []string{bucket + "/" + prefix + "*"}
	switch {
	case site != "":
		reads = resources(everything)
		var lists []string
		for _, pattern := range patterns(everything, site) {
			if strings.HasSuffix(pattern, "*") {
				lists = append(lists, prefix+pattern)
			}
		}
		list.Condition = map[string]map[string][]string{"StringLike": {"s3:prefix": lists}}
	case prefix != "":
		list.Condition = map[string]map[string][]string{"StringLike": {"s3:prefix": {prefix + "*"}}}
	}

	allow := func(action string, resources []string) statement {
		return statement{Effect: "Allow", Action: []string{action}, Resource: resources}
	}
	return []statement{
		list, allow("s3:GetObject", reads),
		allow("s3:PutObject", resources(func(k storage.Kind) bool { return k.Writes(role) })),
		allow("s3:DeleteObject", resources(func(k storage.Kind) bool { return k.Deletes(role) })),
	}
}

// patterns are the keys of the kinds that may be, as S3
// writes them: * stands for any text, slashes too.
func patterns(may func(storage.Kind) bool, site string) (all []string) {
	whole := map[string]bool{} // folders of several kinds in which everything may be
	for _, kind := range storage.Kinds {
		folder := top(kind)
		alike := slices.DeleteFunc(slices.Clone(storage.Kinds),
			func(k storage.Kind) bool { return top(k) != folder })
		whole[folder] = len(alike) > 1 &&
			!slices.ContainsFunc(alike, func(k storage.Kind) bool { return !may(k) })
	}

	for _, kind := range storage.Kinds {
		if !may(kind) {
			continue
		}
		pattern := strings.ReplaceAll(kind.Pattern, "**", "*")
		if folder := top(kind); whole[folder] {
			pattern = folder + "*"
		}

		if site == "" {
			pattern = strings.ReplaceAll(pattern, "SITE", "*")
		} else {
			pattern = strings.ReplaceAll(pattern, "SITE", site)
		}

		if pattern = strings.ReplaceAll(pattern, "**", "*"); !slices.Contains(all, pattern) {
			all = append(all, pattern)
		}
	}

	return all
}

// top is the first folder of a kind's keys, with the site
// where they belong to one.
func top(kind storage.Kind) string {
	if rest, ok := strings.CutPrefix(kind.Pattern, "sites/SITE/"); ok && rest != "" {
		return "sites/SITE/"
	}
	folder, _, _ := strings.Cut(kind.Pattern, "/")
	return folder + "/"
}
