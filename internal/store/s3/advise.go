package s3

import (
	"context"
	"errors"
	"fmt"

	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"orilla.example/orilla/internal/core/storage"
)

// Exists reports whether the bucket is there. It lists, since a request that
// has no body in its answer does not say what is wrong.
func (s *Store) Exists(ctx context.Context) (bool, error) {
	_, err := s.Empty(ctx)
	if errors.Is(err, storage.ErrNoBucket) {
		return false, nil
	}
	return err == nil, err
}

// MakeBucket makes the bucket.
func (s *Store) MakeBucket(ctx context.Context) (err error) {
	defer storage.Failed(&err, s, "make", s.config.Bucket)
	return s.repeat(ctx, func(int) error {
		return s.core.MakeBucket(ctx, s.config.Bucket, minio.MakeBucketOptions{Region: s.config.Region})
	})
}

// Advise says which settings of the bucket work against a store. What the
// server does not tell is left out.
//
// Versioning keeps what a prune removes, a lifecycle rule removes what nobody
// asked it to, and a lock keeps leases from being renewed.
func (s *Store) Advise(ctx context.Context) (advice []string) {
	if versions, err := s.core.GetBucketVersioning(ctx, s.config.Bucket); err == nil && versions.Enabled() {
		advice = append(advice, "the bucket keeps old versions, so pruning frees no space; switch "+
			"versioning off, or expire old versions after some days")
	}
	if mode, _, _, _, err := s.core.GetObjectLockConfig(ctx, s.config.Bucket); err == nil &&
		mode == "Enabled" {
		advice = append(advice, "the bucket locks objects, so nothing can be pruned; use a bucket "+
			"without object lock")
	}

	if rules, err := s.core.GetBucketLifecycle(ctx, s.config.Bucket); err == nil && rules != nil {
		for _, rule := range rules.Rules {
			if rule.Status == "Enabled" && (!rule.Expiration.IsNull() || !rule.Transition.IsNull()) {
				advice = append(advice, fmt.Sprintf(
					"a lifecycle rule (%s) removes or moves old objects, which releases still "+
						"need; remove the rule, or limit it to other prefixes", rule.ID))
			}
		}
	}

	return advice
}

// Stranger reports whether somebody without credentials
// can read the store's mark.
func (s *Store) Stranger(ctx context.Context) (readable bool, err error) {
	anonymous, err := connect(s.config, credentials.NewStaticV4("", "", ""))
	if err != nil {
		return false, err
	}
	_, err = anonymous.Get(ctx, storage.MarkKey)
	if errors.Is(err, storage.ErrDenied) || errors.Is(err, storage.ErrCredentials) ||
		errors.Is(err, storage.ErrNotFound) {
		return false, nil
	}
	return err == nil, err
}
