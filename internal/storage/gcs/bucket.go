package gcs

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"time"

	"trevak/internal/storage"
	"trevak/internal/storage/remote"
)

// bucket sends the requests of one bucket.
type bucket struct {
	remote.OneAfterTheOther
	*server
	name string
}

// writeMark is the metadata of an object that tells by which writer it was made.
const writeMark = "trevak-write"

// object is what the protocol tells of an object.
type object struct {
	Name       string            `json:"name,omitempty"`
	Size       string            `json:"size,omitempty"`
	Updated    string            `json:"updated,omitempty"`
	Generation string            `json:"generation,omitempty"`
	Metadata   map[string]string `json:"metadata,omitempty"`
}

func (o object) version() storage.Version {
	v := storage.Version{Size: storage.UnknownSize, Tag: o.Generation}
	if size, err := strconv.ParseInt(o.Size, 10, 64); err == nil {
		v.Size = size
	}
	if at, err := time.Parse(time.RFC3339, o.Updated); err == nil {
		v.Modified = at.UTC()
	}
	return v
}

func (b bucket) Base() string { return Scheme + "://" + b.name }

// at is the URL of an object, or of all of them for an empty key.
func (b bucket) at(key string, query url.Values) string {
	place := b.address + "/storage/v1/b/" + url.PathEscape(b.name) + "/o"
	if key != "" {
		place += "/" + url.PathEscape(key)
	}
	return place + "?" + query.Encode()
}

// upload is the URL that objects are sent to.
func (b bucket) upload(kind string, query url.Values, how remote.How) string {
	query.Set("uploadType", kind)
	if how.Exclusive {
		query.Set("ifGenerationMatch", "0")
	}
	return b.address + "/upload/storage/v1/b/" + url.PathEscape(b.name) + "/o?" + query.Encode()
}

// Stat asks for an object's own description.
func (b bucket) Stat(ctx context.Context, key string) (remote.Told, error) {
	var o object
	err := b.ask(ctx, b.at(key, url.Values{"fields": {"name,size,updated,generation,metadata"}}), &o)
	return remote.Told{Version: o.version(), Mark: o.Metadata[writeMark]}, err
}

// Page lists a page of objects.
func (b bucket) Page(ctx context.Context, prefix string, deep bool, token string, most int) (remote.Page, error) {
	query := url.Values{"prefix": {prefix}, "fields": {"items(name,size,updated,generation),prefixes,nextPageToken"}}
	if !deep {
		query.Set("delimiter", "/")
	}
	if token != "" {
		query.Set("pageToken", token)
	}
	if most > 0 {
		query.Set("maxResults", strconv.Itoa(most))
	}
	var told struct {
		Items         []object `json:"items"`
		Prefixes      []string `json:"prefixes"`
		NextPageToken string   `json:"nextPageToken"`
	}
	if err := b.ask(ctx, b.at("", query), &told); err != nil {
		return remote.Page{}, err
	}
	out := remote.Page{Folders: told.Prefixes, Next: told.NextPageToken}
	for _, o := range told.Items {
		out.Objects = append(out.Objects, remote.Listed{Key: o.Name, Version: o.version()})
	}
	return out, nil
}

// Get asks for a piece of an object by its generation.
func (b bucket) Get(ctx context.Context, key string, at storage.Version, from, size int64) (io.ReadCloser, error) {
	query := url.Values{"alt": {"media"}}
	if at.Tag != "" {
		query.Set("ifGenerationMatch", at.Tag)
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodGet, b.at(key, query), nil)
	if err != nil {
		return nil, err
	}
	if size < at.Size {
		r.Header.Set("Range", fmt.Sprintf("bytes=%d-%d", from, from+size-1))
	}
	// Otherwise packed objects would be unpacked on their way, and be of another size than was listed.
	r.Header.Set("Accept-Encoding", "gzip")
	got, err := b.send(r)
	if err != nil {
		return nil, err
	}
	if size < at.Size && got.StatusCode != http.StatusPartialContent {
		got.Body.Close()
		return nil, &answer{status: got.StatusCode, reason: "noRanges", message: "the store sends whole objects where pieces are asked for"}
	}
	return got.Body, nil
}

// described is an object's description as it is sent.
func described(key string, how remote.How) []byte {
	o := object{Name: key}
	if how.Mark != "" {
		o.Metadata = map[string]string{writeMark: how.Mark}
	}
	// Texts can always be encoded.
	text, _ := json.Marshal(o)
	return text
}

// Put makes an object with one request, of two parts.
func (b bucket) Put(ctx context.Context, key string, body io.ReaderAt, size int64, how remote.How) error {
	const between = "trevak-part"
	head := fmt.Appendf(nil, "--%s\r\nContent-Type: application/json; charset=UTF-8\r\n\r\n%s\r\n--%[1]s\r\n"+
		"Content-Type: application/octet-stream\r\n\r\n", between, described(key, how))
	tail := []byte("\r\n--" + between + "--\r\n")
	_, err := b.patiently(ctx, func() (*http.Response, error) {
		whole := io.MultiReader(bytes.NewReader(head), io.NewSectionReader(body, 0, size), bytes.NewReader(tail))
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, b.upload("multipart", url.Values{}, how), whole)
		if err != nil {
			return nil, err
		}
		r.ContentLength = int64(len(head)) + size + int64(len(tail))
		r.Header.Set("Content-Type", "multipart/related; boundary="+between)
		return b.finished(r)
	})
	return err
}

// Begin begins a resumable upload; its address is what names it.
func (b bucket) Begin(ctx context.Context, key string, how remote.How) (string, error) {
	text := described(key, how)
	got, err := b.patiently(ctx, func() (*http.Response, error) {
		r, err := http.NewRequestWithContext(ctx, http.MethodPost, b.upload("resumable", url.Values{"name": {key}}, how),
			bytes.NewReader(text))
		if err != nil {
			return nil, err
		}
		r.Header.Set("Content-Type", "application/json; charset=UTF-8")
		return b.finished(r)
	})
	if err != nil {
		return "", err
	}
	session := got.Header.Get("Location")
	if session == "" {
		return "", &answer{status: got.StatusCode, reason: "noSession", message: "the store does not say where the object is to be sent"}
	}
	return session, nil
}

// Part sends a part to where the upload is.
func (b bucket) Part(ctx context.Context, _, upload string, p remote.Part) (string, error) {
	return "", b.part(ctx, upload, p, "*")
}

// Finish sends the last part, after which the object is there.
func (b bucket) Finish(ctx context.Context, _, upload string, _ []remote.Sent, last remote.Part, _ remote.How) error {
	return b.part(ctx, upload, last, strconv.FormatInt(last.From+last.Size, 10))
}

// part sends bytes of an upload until all of them have arrived; whole is how large the object is, * before that is known.
func (b bucket) part(ctx context.Context, session string, p remote.Part, whole string) error {
	arrived, unsure := p.From, false
	_, err := b.patiently(ctx, func() (*http.Response, error) {
		for {
			if unsure {
				// A request that failed may have been carried out in part, or altogether.
				got, err := b.place(ctx, session, nil, 0, "bytes */"+whole)
				if err != nil || got.StatusCode != statusGoOn {
					return got, err
				}
				arrived = max(reached(got), p.From)
				unsure = false
			}
			left := p.From + p.Size - arrived
			if left <= 0 && whole == "*" {
				return nil, nil
			}
			piece := fmt.Sprintf("bytes %d-%d/%s", arrived, arrived+left-1, whole)
			if left <= 0 {
				piece = "bytes */" + whole
			}
			got, err := b.place(ctx, session, io.NewSectionReader(p.Body, arrived-p.From, left), left, piece)
			if err != nil {
				unsure = true
				return nil, err
			}
			if got.StatusCode != statusGoOn {
				return got, nil
			}
			before := arrived
			if arrived = reached(got); arrived <= before && left > 0 || left <= 0 {
				return nil, &answer{status: http.StatusServiceUnavailable, reason: "notTaken", message: "the store takes nothing of the object"}
			}
		}
	})
	return err
}

// statusGoOn is the answer for an upload of which more is to come.
const statusGoOn = http.StatusPermanentRedirect

// reached is how many bytes of an upload have arrived.
func reached(r *http.Response) int64 {
	_, last, ok := strings.Cut(strings.TrimPrefix(r.Header.Get("Range"), "bytes="), "-")
	n, err := strconv.ParseInt(last, 10, 64)
	if !ok || err != nil {
		return 0
	}
	return n + 1
}

// place sends bytes of an upload.
func (b bucket) place(ctx context.Context, session string, body io.Reader, size int64, piece string) (*http.Response, error) {
	var of io.Reader = http.NoBody
	if size > 0 {
		of = body
	}
	r, err := http.NewRequestWithContext(ctx, http.MethodPut, session, of)
	if err != nil {
		return nil, err
	}
	r.ContentLength = size
	r.Header.Set("Content-Range", piece)
	return b.finished(r)
}

// Abort gives an upload up.
func (b bucket) Abort(ctx context.Context, _, upload string) error {
	r, err := http.NewRequestWithContext(ctx, http.MethodDelete, upload, nil)
	if err != nil {
		return err
	}
	// Uploads that are not given up end by themselves, after a week.
	_, _ = b.finished(r)
	return nil
}

// Remove removes an object.
func (b bucket) Remove(ctx context.Context, key string) error {
	_, err := b.patiently(ctx, func() (*http.Response, error) {
		r, err := http.NewRequestWithContext(ctx, http.MethodDelete, b.at(key, url.Values{}), nil)
		if err != nil {
			return nil, err
		}
		return b.finished(r)
	})
	if told, ok := asAnswer(err); ok && told.status == http.StatusNotFound && !told.noBucket() {
		return nil
	}
	return err
}

var _ interface {
	remote.Bucket
	remote.InTurn
} = bucket{}
