package s3

import (
	"context"
	"io/fs"
	"slices"
	"strings"

	"github.com/minio/minio-go/v7"

	"trevak/internal/ahead"
	"trevak/internal/fault"
	"trevak/internal/storage"
)

// page is how many objects are listed with one request, the most that the protocol has.
const page = 1000

// List lists what lies in a folder, with the versions of objects.
func (s *Store) List(ctx context.Context, folder string) ([]storage.Entry, error) {
	p, err := s.at(folder)
	if err != nil {
		return nil, err
	}
	prefix := p.key
	if prefix != "" {
		prefix += "/"
	}
	var out []storage.Entry
	scheme, marked := storage.Scheme(folder), false
	err = p.pages(ctx, prefix, "/", func(answer minio.ListBucketV2Result) error {
		for _, sub := range answer.CommonPrefixes {
			key := strings.TrimSuffix(sub.Prefix, "/")
			if name := strings.TrimPrefix(key, prefix); name != "" {
				out = append(out, storage.Entry{URI: join(scheme, p.bucket, key), Name: name, Kind: storage.Folder})
			}
		}
		for _, o := range answer.Contents {
			if e, ok := entryOf(scheme, p.bucket, o); ok {
				out = append(out, e)
			} else {
				marked = true
			}
		}
		return nil
	})
	if err != nil {
		return nil, err
	}
	if len(out) == 0 && !marked && p.key != "" {
		return nil, &fs.PathError{Op: "list", Path: storage.Shown(folder), Err: fs.ErrNotExist}
	}
	storage.SortEntries(out)
	return out, nil
}

// pages asks for all pages of a listing.
func (p place) pages(ctx context.Context, prefix, delimiter string, take func(minio.ListBucketV2Result) error) error {
	for token := ""; ; {
		if err := ctx.Err(); err != nil {
			return err
		}
		answer, err := p.ListObjectsV2(p.bucket, prefix, "", token, delimiter, page)
		if err != nil {
			return p.explained("s3:ListBucket", err)
		}
		if err := take(answer); err != nil {
			return err
		}
		if !answer.IsTruncated {
			return nil
		}
		if answer.NextContinuationToken == "" || answer.NextContinuationToken == token {
			return fault.New(fault.Storage, "the store lists a part of what it has, and does not say how to go on").In(storage.Shown(p.uri)).
				Try("name the objects by narrower patterns, or use another store")
		}
		token = answer.NextContinuationToken
	}
}

// objectOf is what a server tells of an object.
func objectOf(uri string, o minio.ObjectInfo) storage.Object {
	return storage.Object{URI: uri, Version: storage.Version{Size: o.Size, Modified: o.LastModified.UTC(), Tag: strings.Trim(o.ETag, `"`)}}
}

// Stat tells of an object, or of a folder where objects lie below the URI.
func (s *Store) Stat(ctx context.Context, uri string) (storage.Object, error) {
	p, err := s.at(uri)
	if err != nil {
		return storage.Object{}, err
	}
	var missing error
	if p.key != "" {
		info, err := p.StatObject(ctx, p.bucket, p.key, minio.StatObjectOptions{})
		if err == nil {
			return objectOf(uri, info), nil
		}
		missing = p.explained("s3:GetObject", err)
	}
	prefix := ""
	if p.key != "" {
		prefix = p.key + "/"
	}
	answer, err := p.ListObjectsV2(p.bucket, prefix, "", "", "/", 1)
	switch {
	case err != nil && missing != nil && !isMissing(missing) && minio.ToErrorResponse(err).Code == "AccessDenied":
		return storage.Object{}, missing
	case err != nil:
		// An answer to a question for the head of an object has no room to say why; this one has.
		return storage.Object{}, p.explained("s3:ListBucket", err)
	case missing != nil && !isMissing(missing):
		return storage.Object{}, missing
	}
	if len(answer.Contents)+len(answer.CommonPrefixes) == 0 && p.key != "" {
		return storage.Object{}, missing
	}
	return storage.Object{URI: uri, Kind: storage.Folder}, nil
}

// InFlight is how many requests are best under way at a time.
func (s *Store) InFlight() int { return mostRequests }

// listedTogether is how many folders are listed at a time.
const listedTogether = 16

// Below visits all objects whose URIs begin with a prefix, in the order of their keys. Where there are folders, they are listed side
// by side.
func (s *Store) Below(ctx context.Context, prefix string, visit func(storage.Entry) error) error {
	scheme, rest := storage.Scheme(prefix), prefix[strings.Index(prefix, "://")+len("://"):]
	bucket, key, _ := strings.Cut(rest, "/")
	p, err := s.at(scheme + "://" + bucket)
	if err != nil {
		return err
	}
	p.uri = prefix
	// Each part is an object, or a folder to be listed.
	var parts []storage.Entry
	err = p.pages(ctx, key, "/", func(answer minio.ListBucketV2Result) error {
		for _, sub := range answer.CommonPrefixes {
			parts = append(parts, storage.Entry{URI: join(scheme, bucket, sub.Prefix), Name: sub.Prefix, Kind: storage.Folder})
		}
		for _, o := range answer.Contents {
			if e, ok := entryOf(scheme, bucket, o); ok {
				parts = append(parts, e)
			}
		}
		return nil
	})
	if err != nil {
		return err
	}
	slices.SortFunc(parts, func(a, b storage.Entry) int { return strings.Compare(a.URI, b.URI) })
	return ahead.Each(ctx, len(parts), listedTogether, 2, func(ctx context.Context, i int, send func([]storage.Entry) error) error {
		if parts[i].Kind != storage.Folder {
			return send(parts[i : i+1])
		}
		return p.pages(ctx, parts[i].Name, "", func(answer minio.ListBucketV2Result) error {
			var entries []storage.Entry
			for _, o := range answer.Contents {
				if e, ok := entryOf(scheme, bucket, o); ok {
					entries = append(entries, e)
				}
			}
			return send(entries)
		})
	}, func(_ int, entries []storage.Entry) error {
		for _, e := range entries {
			if err := visit(e); err != nil {
				return err
			}
		}
		return nil
	})
}

// entryOf is an object of a listing; ok is false for the empty object that stands for a folder.
func entryOf(scheme, bucket string, o minio.ObjectInfo) (e storage.Entry, ok bool) {
	if strings.HasSuffix(o.Key, "/") && o.Size == 0 {
		return e, false
	}
	listed := objectOf(join(scheme, bucket, o.Key), o)
	return storage.Entry{URI: listed.URI, Name: o.Key[strings.LastIndexByte(o.Key, '/')+1:], Listed: &listed.Version}, true
}
