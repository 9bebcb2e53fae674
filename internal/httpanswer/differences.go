package httpanswer

import (
	"context"
	"time"

	"orilla.example/orilla/internal/core/answer"
	"orilla.example/orilla/internal/core/coding"
	"orilla.example/orilla/internal/core/digest"
	"orilla.example/orilla/internal/core/release"
)

// differenceKey is under what a file is kept in memory as it is told to whoever has a
// dictionary.
func differenceKey(of, dictionary digest.Digest) pieceKey {
	const slice = -3
	return pieceKey{digest.Of(append(dictionary[:], of[:]...)), slice}
}

// Difference returns the file of an answer, told by what the visitor has. It is made when it
// is first asked for, proved by decoding it, and kept in memory only: the next node makes the
// same in some milliseconds. It returns false where the file is better sent in another way.
func (o *Objects) Difference(ctx context.Context, a answer.Answer) (Variant, bool) {
	if o.variants == nil || a.Dictionary == nil || len(a.File.Parts) > 0 {
		return Variant{}, false
	}
	v, key := o.variants, differenceKey(a.File.Digest, a.Dictionary.Digest)
	found, known := v.difference(key)
	if !known {
		size := a.Dictionary.Size + a.File.Size
		if !v.once(ctx, key, size, func() ([]byte, error) { return v.tell(ctx, *a.File, *a.Dictionary) }) {
			return Variant{}, false
		}
		found, _ = v.difference(key)
	}
	// What names belong together may have little in common. And the smallest form of the file
	// itself, which came to be later, may be smaller.
	if other, known := v.held(a.File.Digest, a.Codings); known {
		other.Done()
		if found.Data != nil && other.Data != nil && len(other.Data) <= len(found.Data) {
			found.Done()
			return Variant{}, false
		}
	}
	return found, found.Data != nil
}

// difference returns what is in memory.
func (v *variants) difference(key pieceKey) (Variant, bool) {
	v.mutex.Lock()
	defer v.mutex.Unlock()
	return v.under(key, coding.Dictionary)
}

// differenceWait is how long a visitor waits for what a difference is made of. It goes on
// being fetched; the file goes out in another way meanwhile.
const differenceWait = 250 * time.Millisecond

// tell encodes a file against a dictionary.
func (v *variants) tell(ctx context.Context, file release.File, by answer.Dictionary) ([]byte, error) {
	has := by.Data
	if has == nil {
		var err error
		if has, err = v.patiently(ctx, by.Digest, differenceWait); err != nil {
			return nil, err
		}
	}
	content, err := v.patiently(ctx, file.Digest, differenceWait)
	if err != nil {
		return nil, err
	}
	data, err := coding.EncodeWith(has, content)
	if err != nil {
		return nil, err
	}
	// A difference that is wrong would be a page that is wrong, with a tag that is right.
	if err := coding.VerifyWith(has, data, file.Digest, file.Size); err != nil {
		v.Bad("a difference to "+by.Digest.String()+" of "+file.Digest.String(), err)
		return nil, err
	}
	return data, nil
}
