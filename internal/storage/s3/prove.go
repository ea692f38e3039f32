package s3

import (
	"bytes"
	"context"
	"errors"

	"github.com/minio/minio-go/v7"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// ProveExclusive tries whether the store refuses to replace an object where that is asked of it (If-None-Match, RFC 9110, section
// 13.1.2), which not all do that take the request. It is tried once for each bucket.
func (s *Store) ProveExclusive(ctx context.Context, uri string) error {
	p, err := s.at(uri)
	if err != nil {
		return err
	}
	bucket := p.server() + "/" + p.bucket
	s.mutex.Lock()
	proven := s.proven[bucket]
	s.mutex.Unlock()
	if proven {
		return nil
	}
	// The first may find it there already; the second has to.
	for range 2 {
		options := minio.PutObjectOptions{DisableContentSha256: !p.secure()}
		options.SetMatchETagExcept("*")
		_, err = p.PutObject(ctx, p.bucket, p.key, bytes.NewReader(nil), 0, "", "", options)
		if err == nil {
			continue
		}
		explained := p.explained("s3:PutObject", err)
		if errors.Is(explained, storage.ErrChanged) {
			s.mutex.Lock()
			s.proven[bucket] = true
			s.mutex.Unlock()
			return nil
		}
		if !errors.Is(explained, errors.ErrUnsupported) {
			return explained
		}
		break
	}
	return fault.New(fault.Storage, "the store replaces objects although it is asked not to (it knows no conditional writes), so that "+
		"two commits at once could each undo the other").In(storage.Shown(uri)).
		Try("keep the tables on the disk or in another store; files that belong to no table can be written here").By(fault.WriteFiles)
}
