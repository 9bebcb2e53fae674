package dictionary

import (
	"bytes"
	"context"
	"crypto/sha256"
	"hash/maphash"
	"slices"
	"strings"

	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
)

// What a dictionary of pages is made from, how large it becomes, and when it is worth it.
const (
	sampleMost = 12
	chunksMost = 6
	pageMost   = 128 << 10 // bytes: larger pages are passed over
	pagesLeast = 3
	sizeLeast  = 512 // bytes
	sizeMost   = 48 << 10
	// What a page must save, in bytes: a browser gets a dictionary over a connection of its
	// own, which takes 3 kB besides.
	worthwhile = 1000
)

// Pages makes the dictionary of a release's pages: what several of them have in common, and
// nothing that only one has. It is nil where that is not worth it.
//
// It depends on the release alone, and on which of its pages everybody is shown, so every
// node makes the same. It reads some of them, whatever the size of the site. Their paths
// decide which, so that one page more or less seldom changes it. The error is that of load
// or of shown.
func Pages(ctx context.Context, reader *release.Reader, load release.Load,
	shown func(context.Context, release.File) (bool, error),
) ([]byte, error) {
	sample, err := sampleOf(ctx, reader, shown)
	if err != nil || len(sample) < pagesLeast {
		return nil, err
	}
	// A dozen pages of at most 128 kB: what is read is bounded, whatever the site.
	contents := make([][]byte, len(sample))
	for i, file := range sample {
		if contents[i], err = load(ctx, file.Digest); err != nil {
			return nil, err
		}
	}

	// It is tried on pages that it was not made from, where there are enough.
	tried := contents
	if len(contents) == sampleMost {
		const made = sampleMost * 3 / 4
		tried, contents = contents[made:], contents[:made]
	}
	common := Common(contents)
	if len(common) < sizeLeast || !helps(common, tried) {
		return nil, nil
	}
	return common, nil
}

// sampleOf returns some pages of a release that everybody is shown.
func sampleOf(ctx context.Context, reader *release.Reader,
	shown func(context.Context, release.File) (bool, error),
) ([]release.File, error) {
	type page struct {
		rank [sha256.Size]byte
		file release.File
	}
	var pages []page
	for file, err := range reader.Some(ctx, chunksMost) {
		if err != nil {
			return nil, err
		}
		if strings.HasPrefix(file.Type, "text/html") && file.Size > 0 && file.Size <= pageMost {
			pages = append(pages, page{sha256.Sum256([]byte(file.Path)), file})
		}
	}
	slices.SortFunc(pages, func(a, b page) int { return bytes.Compare(a.rank[:], b.rank[:]) })

	var sample []release.File
	seen := map[digest.Digest]bool{}
	for _, p := range pages[:min(len(pages), 4*sampleMost)] {
		// Two pages that are one have all in common, and say nothing of the others.
		if seen[p.file.Digest] {
			continue
		}
		seen[p.file.Digest] = true
		ok, err := shown(ctx, p.file)
		if err != nil {
			return nil, err
		}
		if ok {
			sample = append(sample, p.file)
		}
		if len(sample) == sampleMost {
			break
		}
	}
	return sample, nil
}

// helps reports whether pages become enough smaller by a dictionary than they are without.
func helps(dictionary []byte, pages [][]byte) bool {
	before, after := 0, 0
	for _, content := range pages {
		without, err := coding.Encode(coding.Brotli, coding.Fast, content)
		if err != nil {
			without = content
		}
		with, err := coding.EncodeWith(dictionary, content)
		if err != nil {
			with = without
		}
		before, after = before+len(without), after+len(with)
	}
	return before-after >= worthwhile*len(pages)
}

// Common returns what pages have in common, each once: first what two of them have, and
// behind it what most have. Pages are cut into tokens, and three tokens in a row that are in
// another page too are common. It takes time and memory by the size of the pages.
func Common(pages [][]byte) []byte {
	tokens := make([][][]byte, len(pages))
	grams := make([][]uint64, len(pages))
	in := map[uint64]int{} // in how many pages a gram is
	for i, content := range pages {
		tokens[i] = tokensOf(content)
		grams[i] = gramsOf(tokens[i])
		seen := map[uint64]bool{}
		for _, gram := range grams[i] {
			if !seen[gram] {
				seen[gram] = true
				in[gram]++
			}
		}
	}

	have := map[uint64]bool{}
	most := take(tokens, grams, in, have, max(2, (len(pages)+1)/2), sizeMost)
	some := take(tokens, grams, in, have, 2, sizeMost-len(most))
	return append(some, most...)
}

// take returns the tokens of pages that stand in grams which so many pages have, as far as
// these grams were not taken before.
func take(tokens [][][]byte, grams [][]uint64, in map[uint64]int, have map[uint64]bool, pages, most int,
) []byte {
	var out []byte
	for i := range tokens {
		wanted := make([]bool, len(tokens[i]))
		for at, gram := range grams[i] {
			if in[gram] >= pages && !have[gram] {
				for j := range gramTokens {
					wanted[at+j] = true
				}
			}
		}
		// Taken once: what stands on each page is in the dictionary one time.
		for at, gram := range grams[i] {
			if wanted[at] && wanted[at+1] && wanted[at+2] && in[gram] >= pages {
				have[gram] = true
			}
		}
		for at, token := range tokens[i] {
			if wanted[at] && len(out)+len(token) <= most {
				out = append(out, token...)
			}
		}
	}
	return out
}

const (
	gramTokens = 3
	tokenLong  = 64 // bytes, from which on a token ends at the next blank or comma too
)

// tokensOf cuts a page behind each tag and line. The tokens together are the page.
func tokensOf(content []byte) (list [][]byte) {
	start := 0
	for i, c := range content {
		long := i-start >= tokenLong
		if c == '>' || c == '\n' || long && (c == ' ' || c == ',') || i-start >= 8*tokenLong {
			list = append(list, content[start:i+1])
			start = i + 1
		}
	}
	if start < len(content) {
		list = append(list, content[start:])
	}
	return list
}

// seed is of the hashes of tokens. They tell tokens apart and go nowhere.
var seed = maphash.MakeSeed()

// gramsOf returns the hash of each token and the two behind it.
func gramsOf(tokens [][]byte) []uint64 {
	if len(tokens) < gramTokens {
		return nil
	}
	list := make([]uint64, len(tokens)-gramTokens+1)
	var h maphash.Hash
	h.SetSeed(seed)
	for i := range list {
		h.Reset()
		for _, token := range tokens[i : i+gramTokens] {
			h.Write(token)
		}
		list[i] = h.Sum64()
	}
	return list
}
