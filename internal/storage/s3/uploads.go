package s3

import (
	"context"
	"time"

	"github.com/minio/minio-go/v7"

	"trevak/internal/storage"
)

// Leftovers lists uploads below a folder that runs which were stopped have begun before a time, and gives them up where that is
// asked for.
func (s *Store) Leftovers(ctx context.Context, folder string, before time.Time, remove bool) (out []storage.Leftover, err error) {
	p, err := s.at(folder)
	if err != nil {
		return nil, err
	}
	prefix := p.key
	if prefix != "" {
		prefix += "/"
	}
	scheme := storage.Scheme(folder)
	keyMarker, idMarker := "", ""
	for {
		answer, err := p.ListMultipartUploads(ctx, p.bucket, prefix, keyMarker, idMarker, "", page)
		if code := minio.ToErrorResponse(err).Code; code == "NoSuchUpload" || code == "NotImplemented" {
			// Some stores say so where there is none, or have none.
			return out, nil
		}
		if err != nil {
			return out, p.explained("s3:ListBucketMultipartUploads", err)
		}
		for _, u := range answer.Uploads {
			if u.Initiated.After(before) {
				continue
			}
			l := storage.Leftover{Path: join(scheme, p.bucket, u.Key), Modified: u.Initiated.UTC()}
			if parts, err := p.ListObjectParts(ctx, p.bucket, u.Key, u.UploadID, 0, page); err == nil {
				for _, part := range parts.ObjectParts {
					l.Bytes += part.Size
				}
			}
			if remove {
				if err := p.AbortMultipartUpload(ctx, p.bucket, u.Key, u.UploadID); err != nil {
					return out, p.explained("s3:AbortMultipartUpload", err)
				}
			}
			out = append(out, l)
		}
		if !answer.IsTruncated || answer.NextKeyMarker == keyMarker && answer.NextUploadIDMarker == idMarker {
			return out, nil
		}
		keyMarker, idMarker = answer.NextKeyMarker, answer.NextUploadIDMarker
	}
}
