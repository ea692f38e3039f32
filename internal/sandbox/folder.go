package sandbox

import (
	"crypto/md5"
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"io/fs"
	"maps"
	"os"
	"path/filepath"
	"slices"
	"sort"
	"strings"
	"sync"
	"time"

	"github.com/johannesboyne/gofakes3"
)

// folder keeps objects as files, dir/bucket/key, so that other programs can look at them, and what else is known of each in a file of
// its own below dir/.sandbox. It is the backend of the library's server.
type folder struct {
	dir     string
	mutex   sync.RWMutex
	buckets map[string]*bucket
}

// bucket is what is known of the objects of one.
type bucket struct {
	made    time.Time
	objects map[string]known
	sorted  []string // their keys, nil where one came or went
}

// known is what is known of an object besides its bytes.
type known struct {
	Size     int64             `json:"size"`
	Modified time.Time         `json:"modified"`
	MD5      string            `json:"md5"`
	Metadata map[string]string `json:"metadata"`
}

// notes is the folder of what is known of objects.
const notes = ".sandbox"

func openFolder(dir string) (*folder, error) {
	if err := os.MkdirAll(filepath.Join(dir, notes), 0o777); err != nil {
		return nil, err
	}
	f := &folder{dir: dir, buckets: map[string]*bucket{}}
	entries, err := os.ReadDir(dir)
	if err != nil {
		return nil, err
	}
	for _, e := range entries {
		if !e.IsDir() || strings.HasPrefix(e.Name(), ".") {
			continue
		}
		if err := f.read(e.Name()); err != nil {
			return nil, err
		}
	}
	return f, nil
}

// read looks at the files of a bucket.
func (f *folder) read(name string) error {
	b := &bucket{made: time.Now(), objects: map[string]known{}}
	f.buckets[name] = b
	root := filepath.Join(f.dir, name)
	return filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
		if err != nil || e.IsDir() {
			return err
		}
		rel, err := filepath.Rel(root, path)
		if err != nil {
			return err
		}
		key := filepath.ToSlash(rel)
		k, err := f.noted(name, key, path)
		b.objects[key] = k
		return err
	})
}

// noted is what was noted of an object; of a file that was put there or changed by others it is found out.
func (f *folder) noted(bucket, key, path string) (known, error) {
	info, err := os.Stat(path)
	if err != nil {
		return known{}, err
	}
	var k known
	if text, err := os.ReadFile(f.note(bucket, key)); err == nil && json.Unmarshal(text, &k) == nil && k.Size == info.Size() {
		return k, nil
	}
	file, err := os.Open(path)
	if err != nil {
		return known{}, err
	}
	defer file.Close()
	sum := md5.New()
	n, err := io.Copy(sum, file)
	return known{Size: n, Modified: info.ModTime().UTC(), MD5: hex.EncodeToString(sum.Sum(nil))}, err
}

func (f *folder) path(bucket, key string) string {
	return filepath.Join(f.dir, bucket, filepath.FromSlash(key))
}

func (f *folder) note(bucket, key string) string {
	sum := md5.Sum([]byte(bucket + "/" + key))
	return filepath.Join(f.dir, notes, hex.EncodeToString(sum[:])+".json")
}

// safe reports whether a key can be the name of a file in the folder of its bucket.
func safe(key string) bool {
	for part := range strings.SplitSeq(strings.TrimSuffix(key, "/"), "/") {
		if part == "" || part == "." || part == ".." || strings.ContainsRune(part, 0) {
			return false
		}
	}
	return filepath.IsLocal(filepath.FromSlash(key))
}

// ListBuckets lists the buckets.
func (f *folder) ListBuckets() ([]gofakes3.BucketInfo, error) {
	f.mutex.RLock()
	defer f.mutex.RUnlock()
	var out []gofakes3.BucketInfo
	for _, name := range slices.Sorted(maps.Keys(f.buckets)) {
		out = append(out, gofakes3.BucketInfo{Name: name, CreationDate: gofakes3.NewContentTime(f.buckets[name].made)})
	}
	return out, nil
}

// ListBucket lists a page of objects.
func (f *folder) ListBucket(name string, prefix *gofakes3.Prefix, page gofakes3.ListBucketPage) (*gofakes3.ObjectList, error) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	b := f.buckets[name]
	if b == nil {
		return nil, gofakes3.BucketNotFound(name)
	}
	if prefix == nil {
		prefix = &gofakes3.Prefix{}
	}
	if b.sorted == nil {
		b.sorted = slices.Sorted(maps.Keys(b.objects))
	}
	out := gofakes3.NewObjectList()
	from := sort.SearchStrings(b.sorted, max(prefix.Prefix, page.Marker))
	count, last := int64(0), ""
	for _, key := range b.sorted[from:] {
		if key <= page.Marker && page.Marker != "" {
			continue
		}
		if !strings.HasPrefix(key, prefix.Prefix) {
			break
		}
		common := ""
		if prefix.HasDelimiter {
			if at := strings.Index(key[len(prefix.Prefix):], prefix.Delimiter); at >= 0 {
				common = key[:len(prefix.Prefix)+at+len(prefix.Delimiter)]
			}
		}
		if common != "" && (common == last || strings.HasPrefix(page.Marker, common)) {
			continue
		}
		if count == page.MaxKeys && page.MaxKeys > 0 {
			out.IsTruncated = true
			return out, nil
		}
		count++
		out.NextMarker = key
		if common != "" {
			last = common
			out.AddPrefix(common)
			continue
		}
		k := b.objects[key]
		out.Add(&gofakes3.Content{Key: key, LastModified: gofakes3.NewContentTime(k.Modified), ETag: `"` + k.MD5 + `"`, Size: k.Size})
	}
	return out, nil
}

// CreateBucket makes a bucket.
func (f *folder) CreateBucket(name string) error {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	if f.buckets[name] != nil {
		return gofakes3.ResourceError(gofakes3.ErrBucketAlreadyExists, name)
	}
	if err := os.MkdirAll(filepath.Join(f.dir, name), 0o777); err != nil {
		return err
	}
	f.buckets[name] = &bucket{made: time.Now(), objects: map[string]known{}}
	return nil
}

// BucketExists reports whether there is a bucket.
func (f *folder) BucketExists(name string) (bool, error) {
	f.mutex.RLock()
	defer f.mutex.RUnlock()
	return f.buckets[name] != nil, nil
}

// DeleteBucket removes a bucket that is empty.
func (f *folder) DeleteBucket(name string) error {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	switch b := f.buckets[name]; {
	case b == nil:
		return gofakes3.ErrNoSuchBucket
	case len(b.objects) > 0:
		return gofakes3.ResourceError(gofakes3.ErrBucketNotEmpty, name)
	}
	delete(f.buckets, name)
	return os.RemoveAll(filepath.Join(f.dir, name))
}

// ForceDeleteBucket is not offered: a folder with files is removed by whoever put them there.
func (f *folder) ForceDeleteBucket(string) error { return gofakes3.ErrNotImplemented }

// find returns what is known of an object.
func (f *folder) find(name, key string) (known, error) {
	f.mutex.RLock()
	defer f.mutex.RUnlock()
	b := f.buckets[name]
	if b == nil {
		return known{}, gofakes3.BucketNotFound(name)
	}
	k, ok := b.objects[key]
	if !ok {
		return known{}, gofakes3.KeyNotFound(key)
	}
	return k, nil
}

// HeadObject tells of an object.
func (f *folder) HeadObject(name, key string) (*gofakes3.Object, error) {
	k, err := f.find(name, key)
	if err != nil {
		return nil, err
	}
	return k.object(key, io.NopCloser(strings.NewReader(""))), nil
}

// object is an object as the library has it.
func (k known) object(key string, contents io.ReadCloser) *gofakes3.Object {
	hash, _ := hex.DecodeString(k.MD5)
	metadata := map[string]string{"Last-Modified": k.Modified.UTC().Format(time.RFC1123Z[:len(time.RFC1123Z)-5] + "GMT")}
	maps.Copy(metadata, k.Metadata)
	return &gofakes3.Object{Name: key, Metadata: metadata, Size: k.Size, Contents: contents, Hash: hash}
}

// GetObject opens an object, or a range of it.
func (f *folder) GetObject(name, key string, wanted *gofakes3.ObjectRangeRequest) (*gofakes3.Object, error) {
	k, err := f.find(name, key)
	if err != nil {
		return nil, err
	}
	piece, err := wanted.Range(k.Size)
	if err != nil {
		return nil, err
	}
	file, err := os.Open(f.path(name, key))
	if errors.Is(err, fs.ErrNotExist) {
		return nil, gofakes3.KeyNotFound(key)
	} else if err != nil {
		return nil, err
	}
	o := k.object(key, file)
	if o.Range = piece; piece != nil {
		o.Contents = section{io.NewSectionReader(file, piece.Start, piece.Length), file}
	}
	return o, nil
}

// section is a piece of a file, which is closed with it.
type section struct {
	io.Reader
	io.Closer
}

// PutObject writes an object.
func (f *folder) PutObject(name, key string, metadata map[string]string, input io.Reader, _ int64,
	conditions *gofakes3.PutConditions) (out gofakes3.PutObjectResult, err error) {
	if !safe(key) {
		return out, gofakes3.ErrorMessage(gofakes3.ErrInvalidArgument, "the key cannot be the name of a file")
	}
	place := f.path(name, key)
	if err := os.MkdirAll(filepath.Dir(place), 0o777); err != nil {
		return out, err
	}
	file, err := os.CreateTemp(filepath.Join(f.dir, notes), "put-")
	if err != nil {
		return out, err
	}
	defer os.Remove(file.Name())
	sum := md5.New()
	n, err := io.Copy(io.MultiWriter(file, sum), input)
	if err := errors.Join(err, file.Chmod(0o666), file.Close()); err != nil {
		return out, err
	}
	k := known{Size: n, Modified: time.Now().UTC(), MD5: hex.EncodeToString(sum.Sum(nil)), Metadata: metadata}
	text, err := json.Marshal(k)
	if err != nil {
		return out, err
	}
	f.mutex.Lock()
	defer f.mutex.Unlock()
	b := f.buckets[name]
	if b == nil {
		return out, gofakes3.BucketNotFound(name)
	}
	old, there := b.objects[key]
	if conditions != nil {
		hash, _ := hex.DecodeString(old.MD5)
		if err := gofakes3.CheckPutConditions(conditions, &gofakes3.ConditionalObjectInfo{Exists: there, Hash: hash}); err != nil {
			return out, err
		}
	}
	if err := os.Rename(file.Name(), place); err != nil {
		return out, err
	}
	if b.objects[key] = k; !there {
		b.sorted = nil
	}
	return out, os.WriteFile(f.note(name, key), text, 0o666)
}

// DeleteObject removes an object, and the folders that it leaves empty.
func (f *folder) DeleteObject(name, key string) (out gofakes3.ObjectDeleteResult, err error) {
	f.mutex.Lock()
	defer f.mutex.Unlock()
	b := f.buckets[name]
	if b == nil {
		return out, gofakes3.BucketNotFound(name)
	}
	if _, there := b.objects[key]; !there {
		return out, nil
	}
	if err := os.Remove(f.path(name, key)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return out, err
	}
	delete(b.objects, key)
	b.sorted = nil
	for up := filepath.Dir(f.path(name, key)); up != filepath.Join(f.dir, name) && os.Remove(up) == nil; {
		up = filepath.Dir(up)
	}
	if err := os.Remove(f.note(name, key)); err != nil && !errors.Is(err, fs.ErrNotExist) {
		return out, err
	}
	return out, nil
}

// DeleteMulti removes objects.
func (f *folder) DeleteMulti(name string, keys ...string) (out gofakes3.MultiDeleteResult, err error) {
	for _, key := range keys {
		if _, err := f.DeleteObject(name, key); err != nil {
			out.Error = append(out.Error, gofakes3.ErrorResultFromError(err))
			continue
		}
		out.Deleted = append(out.Deleted, gofakes3.ObjectID{Key: key})
	}
	return out, nil
}

// CopyObject copies an object.
func (f *folder) CopyObject(fromBucket, fromKey, name, key string, metadata map[string]string) (gofakes3.CopyObjectResult, error) {
	return gofakes3.CopyObject(f, fromBucket, fromKey, name, key, metadata)
}
