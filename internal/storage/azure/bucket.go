package azure

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"strings"
	"time"

	"github.com/Azure/azure-sdk-for-go/sdk/azcore"
	"github.com/Azure/azure-sdk-for-go/sdk/azcore/streaming"
	"github.com/Azure/azure-sdk-for-go/sdk/azcore/to"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/bloberror"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/blockblob"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/container"

	"trevak/internal/storage"
	"trevak/internal/storage/remote"
)

// bucket sends the requests of one container.
type bucket struct {
	client *container.Client
	// base is what the URIs of its objects begin with, server the address that requests go to, asked what they are signed with.
	base, account, name, server, asked string
}

// Names of metadata: writeMark tells by which writer an object was made, folderMark that it stands for a folder.
const (
	writeMark  = "trevakwrite"
	folderMark = "hdi_isfolder"
)

func (b bucket) Base() string { return b.base }

func versionOf(size *int64, modified *time.Time, tag *azcore.ETag) storage.Version {
	v := storage.Version{Size: storage.UnknownSize}
	if size != nil {
		v.Size = *size
	}
	if modified != nil {
		v.Modified = modified.UTC()
	}
	if tag != nil {
		v.Tag = strings.Trim(string(*tag), `"`)
	}
	return v
}

// marked returns an entry of metadata, whose names come in any case.
func marked(metadata map[string]*string, name string) string {
	for k, v := range metadata {
		if strings.EqualFold(k, name) && v != nil {
			return *v
		}
	}
	return ""
}

// errFolder is the answer for an object that stands for a folder.
var errFolder = &azcore.ResponseError{ErrorCode: string(bloberror.BlobNotFound), StatusCode: 404}

// Stat asks for the properties of a blob.
func (b bucket) Stat(ctx context.Context, key string) (remote.Told, error) {
	var answer blob.GetPropertiesResponse
	err := remote.Patiently(ctx, b, func() (err error) {
		answer, err = b.client.NewBlobClient(key).GetProperties(ctx, nil)
		return err
	})
	if err != nil {
		return remote.Told{}, err
	}
	if marked(answer.Metadata, folderMark) == "true" {
		return remote.Told{}, errFolder
	}
	return remote.Told{Version: versionOf(answer.ContentLength, answer.LastModified, answer.ETag),
		Mark: marked(answer.Metadata, writeMark)}, nil
}

// Page lists a page of blobs.
func (b bucket) Page(ctx context.Context, prefix string, deep bool, token string, most int) (out remote.Page, err error) {
	err = remote.Patiently(ctx, b, func() (err error) {
		out, err = b.page(ctx, prefix, deep, token, most)
		return err
	})
	return out, err
}

func (b bucket) page(ctx context.Context, prefix string, deep bool, token string, most int) (out remote.Page, err error) {
	var marker *string
	var largest *int32
	if token != "" {
		marker = &token
	}
	if most > 0 {
		largest = to.Ptr(int32(most))
	}
	include := container.ListBlobsInclude{Metadata: true}
	if deep {
		pager := b.client.NewListBlobsFlatPager(&container.ListBlobsFlatOptions{Prefix: &prefix, Marker: marker, MaxResults: largest,
			Include: include})
		answer, err := pager.NextPage(ctx)
		if err != nil {
			return out, err
		}
		out.Objects = listed(answer.Segment.BlobItems)
		out.Next = text(answer.NextMarker)
		return out, nil
	}
	pager := b.client.NewListBlobsHierarchyPager("/", &container.ListBlobsHierarchyOptions{Prefix: &prefix, Marker: marker,
		MaxResults: largest, Include: include})
	answer, err := pager.NextPage(ctx)
	if err != nil {
		return out, err
	}
	for _, p := range answer.Segment.BlobPrefixes {
		out.Folders = append(out.Folders, text(p.Name))
	}
	out.Objects = listed(answer.Segment.BlobItems)
	out.Next = text(answer.NextMarker)
	return out, nil
}

func text(s *string) string {
	if s == nil {
		return ""
	}
	return *s
}

func listed(items []*container.BlobItem) (out []remote.Listed) {
	for _, item := range items {
		if item.Name == nil || item.Properties == nil || marked(item.Metadata, folderMark) == "true" {
			continue
		}
		p := item.Properties
		out = append(out, remote.Listed{Key: *item.Name, Version: versionOf(p.ContentLength, p.LastModified, p.ETag)})
	}
	return out
}

// Get asks for a piece of a blob by its ETag.
func (b bucket) Get(ctx context.Context, key string, at storage.Version, from, size int64) (io.ReadCloser, error) {
	options := &blob.DownloadStreamOptions{}
	if size < at.Size {
		options.Range = blob.HTTPRange{Offset: from, Count: size}
	}
	if at.Tag != "" {
		options.AccessConditions = &blob.AccessConditions{ModifiedAccessConditions: &blob.ModifiedAccessConditions{
			IfMatch: to.Ptr(azcore.ETag(`"` + at.Tag + `"`))}}
	}
	answer, err := b.client.NewBlobClient(key).DownloadStream(ctx, options)
	if err != nil {
		return nil, err
	}
	return answer.Body, nil
}

// only is the condition that there is no blob yet.
func only(how remote.How) *blob.AccessConditions {
	if !how.Exclusive {
		return nil
	}
	return &blob.AccessConditions{ModifiedAccessConditions: &blob.ModifiedAccessConditions{IfNoneMatch: to.Ptr(azcore.ETagAny)}}
}

func marks(how remote.How) map[string]*string {
	if how.Mark == "" {
		return nil
	}
	return map[string]*string{writeMark: &how.Mark}
}

// Put makes a blob with one request.
func (b bucket) Put(ctx context.Context, key string, body io.ReaderAt, size int64, how remote.How) error {
	return remote.Patiently(ctx, b, func() error {
		_, err := b.client.NewBlockBlobClient(key).Upload(ctx, streaming.NopCloser(io.NewSectionReader(body, 0, size)),
			&blockblob.UploadOptions{Metadata: marks(how), AccessConditions: only(how)})
		return err
	})
}

// Begin has nothing to ask: blocks belong to no upload, and are told apart by their names.
func (b bucket) Begin(_ context.Context, _ string, how remote.How) (string, error) {
	return how.Mark, nil
}

// Part sends a block.
func (b bucket) Part(ctx context.Context, key, upload string, p remote.Part) (string, error) {
	// The names of a blob's blocks are all of one length.
	id := base64.StdEncoding.EncodeToString(fmt.Appendf(nil, "%s-%06d", upload, p.Number))
	return id, remote.Patiently(ctx, b, func() error {
		_, err := b.client.NewBlockBlobClient(key).StageBlock(ctx, id, streaming.NopCloser(p.Reader()), nil)
		return err
	})
}

// Finish sends the last block, and makes the blob of all.
func (b bucket) Finish(ctx context.Context, key, upload string, sent []remote.Sent, last remote.Part, how remote.How) error {
	if last.Size > 0 {
		id, err := b.Part(ctx, key, upload, last)
		if err != nil {
			return err
		}
		sent = append(sent, remote.Sent{Number: last.Number, Tag: id})
	}
	ids := make([]string, len(sent))
	for i, p := range sent {
		ids[i] = p.Tag
	}
	err := remote.Patiently(ctx, b, func() error {
		_, err := b.client.NewBlockBlobClient(key).CommitBlockList(ctx, ids,
			&blockblob.CommitBlockListOptions{Metadata: marks(how), AccessConditions: only(how)})
		return err
	})
	if how.Exclusive && bloberror.HasCode(err, bloberror.InvalidBlockList) {
		// Whoever made the blob meanwhile has done away with all other blocks.
		return remote.Changed
	}
	return err
}

// Abort has nothing to ask: blocks that no blob was made of are done away with by the store, after a week.
func (b bucket) Abort(context.Context, string, string) error { return nil }

// Remove removes a blob.
func (b bucket) Remove(ctx context.Context, key string) error {
	err := remote.Patiently(ctx, b, func() error {
		_, err := b.client.NewBlobClient(key).Delete(ctx, nil)
		return err
	})
	if bloberror.HasCode(err, bloberror.BlobNotFound) {
		return nil
	}
	return err
}

// Final reports whether asking again cannot help.
func (b bucket) Final(err error) bool {
	var answer *azcore.ResponseError
	return errors.As(err, &answer) && remote.Refused(answer.StatusCode)
}

// Address is the address of the container.
func (b bucket) Address() string { return b.server }

// Denied reports whether a right is missing.
func (b bucket) Denied(err error) bool {
	var answer *azcore.ResponseError
	return errors.As(err, &answer) && answer.StatusCode == http.StatusForbidden
}

var _ remote.Bucket = bucket{}
