package remote

import (
	"bytes"
	"context"
	"errors"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// ProveExclusive tries whether the store refuses to replace an object where that is asked of it (for the S3 protocol If-None-Match, RFC
// 9110, section 13.1.2), which not all do that take the request. It is tried once for each bucket.
func (s *Store) ProveExclusive(ctx context.Context, uri string) error {
	p, err := s.at(uri)
	if err != nil {
		return err
	}
	s.mutex.Lock()
	proven := s.proven[p.Base()]
	s.mutex.Unlock()
	if proven {
		return nil
	}
	// The first may find it there already; the second has to.
	for range 2 {
		err = p.explained(Write, p.Put(ctx, p.key, bytes.NewReader(nil), 0, How{Exclusive: true}))
		switch {
		case err == nil:
			continue
		case errors.Is(err, storage.ErrChanged):
			s.mutex.Lock()
			s.proven[p.Base()] = true
			s.mutex.Unlock()
			return nil
		case !errors.Is(err, errors.ErrUnsupported):
			return err
		}
		break
	}
	return fault.New(fault.Storage, "the store replaces objects although it is asked not to (it knows no conditional writes), so that "+
		"two commits at once could each undo the other").In(storage.Shown(uri)).
		Try("keep the tables on the disk or in another store; files that belong to no table can be written here").By(fault.WriteFiles)
}
