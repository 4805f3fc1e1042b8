package bucket

import (
	"context"
	"encoding/xml"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"
)

// A bucket with Object Lock (an S3 term) keeps versions: what is removed or written over
// is there still, and a version that is retained nobody removes before its time, whatever
// keys they have.

// lockable asks whether the bucket has Object Lock. That the service does not know it is
// the same as that it has not.
func (s *FS) lockable(ctx context.Context) bool {
	enabled, _, _, _, err := s.client.GetObjectLockConfig(ctx, s.bucket)
	return err == nil && enabled == "Enabled"
}

// Retains tells whether objects can be retained.
func (s *FS) Retains() bool { return s.locking }

// Retained tells until when an object is retained, as far as it was done since the start.
func (s *FS) Retained(p string) time.Time {
	rel, _ := s.object(p)
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.retained[rel]
}

// Retain keeps everybody from removing an object until a time, in the mode that no
// account may lift (compliance). A shorter time than before changes nothing.
func (s *FS) Retain(p string, until time.Time) error {
	rel, ok := s.object(p)
	s.mu.Lock()
	_, stored := s.objects[rel]
	was := s.retained[rel]
	s.mu.Unlock()
	if !ok || !stored {
		return missing(p)
	}
	until = until.UTC().Truncate(time.Second).Add(time.Second) // services keep seconds
	if !until.After(was) || !until.After(time.Now()) {
		return nil
	}
	ctx, cancel := within()
	defer cancel()
	mode := minio.Compliance
	held, err := s.heldVersion(ctx, s.key(rel), "")
	if err != nil {
		return err
	}
	if !until.After(held) {
		until = held
	} else if err := s.client.PutObjectRetention(ctx, s.bucket, s.key(rel), minio.PutObjectRetentionOptions{Mode: &mode, RetainUntilDate: &until}); err != nil {
		return fmt.Errorf("retain object %s: %w", rel, err)
	}
	s.mu.Lock()
	s.retained[rel] = until
	s.mu.Unlock()
	return nil
}

// purge removes all versions of an object, so that its room comes back. What is retained
// stays, out of sight.
func (s *FS) purge(ctx context.Context, rel string) error {
	var errs []error
	kept := false
	for v := range s.client.ListObjects(ctx, s.bucket, minio.ListObjectsOptions{Prefix: s.key(rel), WithVersions: true, Recursive: true}) {
		switch {
		case v.Err != nil:
			return fmt.Errorf("versions of object %s: %w", rel, v.Err)
		case v.Key != s.key(rel):
			continue
		}
		if !v.IsDeleteMarker {
			held, err := s.heldVersion(ctx, v.Key, v.VersionID)
			if err != nil || held.After(time.Now()) {
				kept, errs = true, append(errs, err)
				continue
			}
		}
		if err := s.client.RemoveObject(ctx, s.bucket, v.Key, minio.RemoveObjectOptions{VersionID: v.VersionID}); err != nil {
			errs = append(errs, fmt.Errorf("remove a version of object %s: %w", rel, err))
		}
	}
	if kept {
		errs = append(errs, s.client.RemoveObject(ctx, s.bucket, s.key(rel), minio.RemoveObjectOptions{}))
	}
	return errors.Join(errs...)
}

// heldVersion tells until when a version is retained; zero if it is not. It reads the
// answer itself: services disagree on the name of its root element.
func (s *FS) heldVersion(ctx context.Context, key, version string) (time.Time, error) {
	q := url.Values{"retention": {""}}
	if version != "" {
		q.Set("versionId", version)
	}
	u, err := s.client.Presign(ctx, http.MethodGet, s.bucket, key, time.Minute, q)
	if err != nil {
		return time.Time{}, fmt.Errorf("retention of %s: %w", key, err)
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, u.String(), nil)
	if err != nil {
		return time.Time{}, fmt.Errorf("retention of %s: %w", key, err)
	}
	res, err := s.http.Do(r)
	if err != nil {
		return time.Time{}, fmt.Errorf("retention of %s: %w", key, err)
	}
	defer func() { _ = res.Body.Close() }()
	var v struct{ RetainUntilDate time.Time }
	switch {
	case res.StatusCode == http.StatusNotFound || res.StatusCode == http.StatusBadRequest:
		return time.Time{}, nil // it has none (NoSuchObjectLockConfiguration, InvalidRequest)
	case res.StatusCode != http.StatusOK:
		return time.Time{}, fmt.Errorf("retention of %s: the service answers %s", key, res.Status)
	}
	if err := xml.NewDecoder(io.LimitReader(res.Body, 64<<10)).Decode(&v); err != nil {
		return time.Time{}, fmt.Errorf("retention of %s: %w", key, err)
	}
	return v.RetainUntilDate, nil
}

// raise brings back what was removed or written over though it was retained: by somebody
// with keys to the bucket, since this store removes nothing that it has retained. The
// oldest retained version is the one that this store wrote.
func (s *FS) raise(ctx context.Context) (raised int, err error) {
	type seen struct {
		retained *minio.ObjectInfo
		younger  []minio.ObjectInfo // than the retained one
		all      []minio.ObjectInfo
	}
	keys := map[string]*seen{}
	for v := range s.client.ListObjects(ctx, s.bucket, minio.ListObjectsOptions{Prefix: s.key(""), WithVersions: true, Recursive: true}) {
		if v.Err != nil {
			return raised, fmt.Errorf("list versions: %w", v.Err)
		}
		k := keys[v.Key]
		if k == nil {
			k = &seen{}
			keys[v.Key] = k
		}
		k.all = append(k.all, v) // newest first, as services list them
	}
	for _, k := range keys {
		if len(k.all) < 2 {
			continue // nothing was removed or written over
		}
		if !fixed(s.rel(k.all[0].Key)) {
			// This store writes it anew itself, and so the newest counts; but it
			// removes none that is needed.
			n, err := s.unmark(ctx, k.all)
			if err != nil {
				return raised, err
			}
			raised += n
			continue
		}
		for i := len(k.all) - 1; i >= 0; i-- {
			v := k.all[i]
			if v.IsDeleteMarker {
				continue
			}
			held, err := s.heldVersion(ctx, v.Key, v.VersionID)
			if err != nil {
				return raised, err
			}
			if held.After(time.Now()) {
				k.retained, k.younger = &v, k.all[:i]
				break
			}
		}
		if k.retained == nil {
			continue
		}
		gone := true
		for _, v := range k.younger {
			if err := s.client.RemoveObject(ctx, s.bucket, v.Key, minio.RemoveObjectOptions{VersionID: v.VersionID}); err != nil {
				gone = false // it is retained as well: somebody made sure of it
			}
		}
		if !gone {
			return raised, fmt.Errorf("object %s was written over with something that cannot be removed; its version %s is what this store wrote", k.retained.Key, k.retained.VersionID)
		}
		raised++
	}
	return raised, nil
}

// rel is a key's path below the root.
func (s *FS) rel(key string) string {
	return strings.TrimPrefix(strings.TrimPrefix(key, s.prefix), "/")
}

func cutBoth(s, before, after string) (string, bool) {
	s, one := strings.CutPrefix(s, before)
	s, two := strings.CutSuffix(s, after)
	return s, one && two
}

// unmark brings back an object that was removed though it is retained.
func (s *FS) unmark(ctx context.Context, versions []minio.ObjectInfo) (int, error) {
	for i, v := range versions {
		if v.IsDeleteMarker {
			continue
		}
		held, err := s.heldVersion(ctx, v.Key, v.VersionID)
		if err != nil || i == 0 || !held.After(time.Now()) {
			return 0, err
		}
		for _, marker := range versions[:i] {
			if err := s.client.RemoveObject(ctx, s.bucket, marker.Key, minio.RemoveObjectOptions{VersionID: marker.VersionID}); err != nil {
				return 0, fmt.Errorf("bring back object %s: %w", s.rel(v.Key), err)
			}
		}
		return 1, nil
	}
	return 0, nil
}

// fixed tells the objects that are written once: packs and seals.
func fixed(rel string) bool {
	_, pack := cutBoth(rel, "packs/", ".pack")
	_, seal := cutBoth(rel, "seals/", ".seal")
	return pack || seal
}
