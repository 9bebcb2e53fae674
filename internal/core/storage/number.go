package storage

import "context"

// LastNumber returns the last of records that are numbered from 1 without gaps,
// 0 if there is none. hint is a number that may be the last or before it; a
// wrong one costs a few probes, nothing else. Without a useful hint doubling
// and halving find the end in the logarithm of the length.
func LastNumber(ctx context.Context, hint int64, exists func(ctx context.Context, n int64) (bool, error),
) (int64, error) {
	low, step := int64(0), int64(1) // low exists, or is 0
	if hint > 0 {
		there, err := exists(ctx, hint)
		if err != nil {
			return 0, err
		}
		if there {
			low = hint
		}
	}

	for {
		there, err := exists(ctx, low+step)
		if err != nil {
			return 0, err
		}
		if !there {
			break
		}
		low, step = low+step, step*2
	}

	for high := low + step; high-low > 1; { // high is absent
		middle := low + (high-low)/2
		there, err := exists(ctx, middle)
		if err != nil {
			return 0, err
		}

		if there {
			low = middle
		} else {
			high = middle
		}
	}

	return low, nil
}
