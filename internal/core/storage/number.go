package storage

import (
	"context"
	"errors"
	"sync"
)

// probesAtOnce is how many numbers are asked for at once: a store far away answers
// eight questions as soon as one.
const probesAtOnce = 8

// LastNumber returns the last of records that are numbered from 1 without gaps,
// 0 if there is none. hint is a number that may be the last or before it; a
// wrong one costs a few probes, nothing else. Without a useful hint the end is found
// in the logarithm of the length. exists is called from several goroutines.
//
//	hint 12 is the last:   12 13                     one round
//	hint 12 of 20:         12 13 | 15 19 27 43 ... | 20 21 22 ...
func LastNumber(ctx context.Context, hint int64, exists func(ctx context.Context, n int64) (bool, error),
) (int64, error) {
	low := int64(0) // exists, or is 0
	first := []int64{1}
	if hint > 0 {
		first = []int64{hint, hint + 1}
	}
	there, err := probe(ctx, first, exists)
	if err != nil {
		return 0, err
	}
	switch {
	case !there[0] && hint <= 1:
		return 0, nil
	case there[0] && len(there) == 2 && !there[1]:
		return hint, nil
	case there[0]:
		low = first[len(first)-1]
	}

	// Steps that double, until one is absent.
	high := int64(0) // is absent, or 0 while that is not known
	for step := int64(1); high == 0; {
		numbers := make([]int64, probesAtOnce)
		for i := range numbers {
			numbers[i], step = low+step, 2*step
		}
		if there, err = probe(ctx, numbers, exists); err != nil {
			return 0, err
		}
		low, high = between(numbers, there, low, 0)
	}

	// Then what lies between, in equal parts: each round leaves an eighth of it.
	for high-low > 1 {
		var numbers []int64
		for i := range int64(probesAtOnce) {
			if n := low + 1 + i*max(1, (high-low-1)/probesAtOnce); n < high {
				numbers = append(numbers, n)
			}
		}
		if there, err = probe(ctx, numbers, exists); err != nil {
			return 0, err
		}
		low, high = between(numbers, there, low, high)
	}
	return low, nil
}

// between narrows down where the end is: low exists, and high does not.
func between(numbers []int64, there []bool, low, high int64) (int64, int64) {
	for i, n := range numbers {
		if !there[i] {
			return low, n
		}
		low = n
	}
	return low, high
}

// probe asks for several numbers at once.
func probe(ctx context.Context, numbers []int64, exists func(ctx context.Context, n int64) (bool, error),
) ([]bool, error) {
	there, errs := make([]bool, len(numbers)), make([]error, len(numbers))
	var group sync.WaitGroup
	for i, n := range numbers {
		group.Go(func() { there[i], errs[i] = exists(ctx, n) })
	}
	group.Wait()
	return there, errors.Join(errs...)
}
