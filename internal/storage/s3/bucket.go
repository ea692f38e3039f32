package s3

import (
	"context"
	"io"
	"strings"
	"time"

	"github.com/minio/minio-go/v7"

	"trevak/internal/storage"
	"trevak/internal/storage/remote"
)

// bucket sends the requests of one bucket.
type bucket struct {
	*client
	scheme, name string
}

// writeMark is the metadata of an object that tells by which writer it was made.
const writeMark = "Trevak-Write"

func (b bucket) Base() string { return b.scheme + "://" + b.name }

// secure reports whether the connection itself keeps what is sent whole; otherwise the body is signed.
func (b bucket) secure() bool { return b.EndpointURL().Scheme == "https" }

// versionOf is what a server tells of an object.
func versionOf(o minio.ObjectInfo) storage.Version {
	return storage.Version{Size: o.Size, Modified: o.LastModified.UTC(), Tag: strings.Trim(o.ETag, `"`)}
}

// Stat asks for the head of an object.
func (b bucket) Stat(ctx context.Context, key string) (remote.Told, error) {
	var info minio.ObjectInfo
	err := remote.Patiently(ctx, b, func() (err error) {
		info, err = b.StatObject(ctx, b.name, key, minio.StatObjectOptions{})
		return err
	})
	return remote.Told{Version: versionOf(info), Mark: info.UserMetadata[writeMark]}, err
}

// pageSize is how many objects are listed with one request, the most that the protocol has.
const pageSize = 1000

// Page lists a page of objects.
func (b bucket) Page(ctx context.Context, prefix string, deep bool, token string, most int) (remote.Page, error) {
	delimiter := "/"
	if deep {
		delimiter = ""
	}
	if most == 0 {
		most = pageSize
	}
	var answer minio.ListBucketV2Result
	err := remote.Patiently(ctx, b, func() (err error) {
		answer, err = b.ListObjectsV2(b.name, prefix, "", token, delimiter, most)
		return err
	})
	if err != nil {
		return remote.Page{}, err
	}
	var out remote.Page
	for _, sub := range answer.CommonPrefixes {
		out.Folders = append(out.Folders, sub.Prefix)
	}
	for _, o := range answer.Contents {
		out.Objects = append(out.Objects, remote.Listed{Key: o.Key, Version: versionOf(o)})
	}
	if answer.IsTruncated {
		if out.Next = answer.NextContinuationToken; out.Next == "" {
			return out, remote.ErrCut
		}
	}
	return out, nil
}

// Get asks for a piece of an object by its ETag.
func (b bucket) Get(ctx context.Context, key string, at storage.Version, from, size int64) (io.ReadCloser, error) {
	var options minio.GetObjectOptions
	if at.Tag != "" {
		if err := options.SetMatchETag(at.Tag); err != nil {
			return nil, err
		}
	}
	if size < at.Size {
		if err := options.SetRange(from, from+size-1); err != nil {
			return nil, err
		}
	}
	body, info, _, err := b.GetObject(ctx, b.name, key, options)
	if err != nil {
		return nil, err
	}
	if at.Tag == "" && !info.LastModified.IsZero() && !at.Modified.IsZero() && !info.LastModified.Equal(at.Modified) {
		body.Close()
		return nil, remote.Changed
	}
	return body, nil
}

func (b bucket) options(how remote.How, complete bool) minio.PutObjectOptions {
	o := minio.PutObjectOptions{DisableContentSha256: !b.secure()}
	if how.Mark != "" {
		o.UserMetadata = map[string]string{writeMark: how.Mark}
	}
	if complete && how.Exclusive {
		// RFC 9110, section 13.1.2.
		o.SetMatchETagExcept("*")
	}
	return o
}

// Put makes an object with one request.
func (b bucket) Put(ctx context.Context, key string, body io.ReaderAt, size int64, how remote.How) error {
	return remote.Patiently(ctx, b, func() error {
		_, err := b.PutObject(ctx, b.name, key, io.NewSectionReader(body, 0, size), size, "", "", b.options(how, true))
		return err
	})
}

// Begin begins a multipart upload.
func (b bucket) Begin(ctx context.Context, key string, how remote.How) (id string, err error) {
	err = remote.Patiently(ctx, b, func() (err error) {
		id, err = b.NewMultipartUpload(ctx, b.name, key, b.options(how, false))
		return err
	})
	return id, err
}

// Part sends a part of it.
func (b bucket) Part(ctx context.Context, key, upload string, p remote.Part) (string, error) {
	var sent minio.ObjectPart
	err := remote.Patiently(ctx, b, func() (err error) {
		sent, err = b.PutObjectPart(ctx, b.name, key, upload, p.Number, p.Reader(), p.Size,
			minio.PutObjectPartOptions{DisableContentSha256: !b.secure()})
		return err
	})
	return sent.ETag, err
}

// Finish sends the last part, and makes the object of all.
func (b bucket) Finish(ctx context.Context, key, upload string, sent []remote.Sent, last remote.Part, how remote.How) error {
	if last.Size > 0 {
		tag, err := b.Part(ctx, key, upload, last)
		if err != nil {
			return err
		}
		sent = append(sent, remote.Sent{Number: last.Number, Tag: tag})
	}
	list := make([]minio.CompletePart, len(sent))
	for i, p := range sent {
		list[i] = minio.CompletePart{PartNumber: p.Number, ETag: p.Tag}
	}
	return remote.Patiently(ctx, b, func() error {
		_, err := b.CompleteMultipartUpload(ctx, b.name, key, upload, list, b.options(how, true))
		return err
	})
}

// Abort gives an upload up.
func (b bucket) Abort(ctx context.Context, key, upload string) error {
	err := remote.Patiently(ctx, b, func() error { return b.AbortMultipartUpload(ctx, b.name, key, upload) })
	if minio.ToErrorResponse(err).Code == "NoSuchUpload" {
		return nil
	}
	return err
}

// Remove removes an object.
func (b bucket) Remove(ctx context.Context, key string) error {
	return remote.Patiently(ctx, b, func() error { return b.RemoveObject(ctx, b.name, key, minio.RemoveObjectOptions{}) })
}

// Uploads lists multipart uploads, and gives them up where that is asked for.
func (b bucket) Uploads(ctx context.Context, prefix string, before time.Time, remove bool) (out []storage.Leftover, err error) {
	keyMarker, idMarker := "", ""
	for {
		var answer minio.ListMultipartUploadsResult
		err := remote.Patiently(ctx, b, func() (err error) {
			answer, err = b.ListMultipartUploads(ctx, b.name, prefix, keyMarker, idMarker, "", pageSize)
			return err
		})
		if code := minio.ToErrorResponse(err).Code; code == "NoSuchUpload" || code == "NotImplemented" {
			// Some stores say so where there is none, or have none.
			return out, nil
		}
		if err != nil {
			return out, err
		}
		for _, u := range answer.Uploads {
			if u.Initiated.After(before) {
				continue
			}
			l := storage.Leftover{Path: b.Base() + "/" + u.Key, Modified: u.Initiated.UTC()}
			if parts, err := b.ListObjectParts(ctx, b.name, u.Key, u.UploadID, 0, pageSize); err == nil {
				for _, part := range parts.ObjectParts {
					l.Bytes += part.Size
				}
			}
			if remove {
				if err := b.Abort(ctx, u.Key, u.UploadID); err != nil {
					return out, err
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

var _ interface {
	remote.Bucket
	remote.Leaver
} = bucket{}
