package table

import (
	"bytes"
	"fmt"
	"io"
	"path"
	"strings"

	iceberg "github.com/apache/iceberg-go"
	icebergio "github.com/apache/iceberg-go/io"
	"github.com/twmb/avro/ocf"
)

// manifestList is a manifest list that is mended before it is on the disk. The library leaves out a bound of a manifest's
// partitions where it is the empty text, and readers take an absent bound to say that there are nulls only: a filter on the
// partition would find nothing in the whole manifest (Iceberg specification, Manifest Lists, field_summary).
type manifestList struct {
	bytes.Buffer
	files files
	into  icebergio.FileWriter
}

// isManifestList goes by how the library names its files.
func isManifestList(location string) bool {
	name := path.Base(location)
	return strings.HasPrefix(name, "snap-") && strings.HasSuffix(name, ".avro")
}

func (m *manifestList) Close() error {
	mended, err := m.mended()
	if err == nil {
		_, err = m.into.Write(mended)
	}
	if closed := m.into.Close(); err == nil {
		err = closed
	}
	return err
}

// mended returns the list with the bounds that are empty texts; it is the same bytes where none was left out.
func (m *manifestList) mended() ([]byte, error) {
	manifests, err := iceberg.ReadManifestList(bytes.NewReader(m.Bytes()))
	if err != nil {
		return nil, fmt.Errorf("reading the manifest list: %w", err)
	}
	at := -1
	out, err := rewritten(m.Bytes(), func(entry map[string]any) (bool, error) {
		at++
		return m.mend(entry, manifests[at])
	})
	if err != nil {
		return nil, fmt.Errorf("mending the manifest list: %w", err)
	}
	return out, nil
}

// rewritten returns an Avro file with entries that are changed, under the schema and the metadata that it has; it is the same bytes where
// none is. change reports whether it changed an entry.
func rewritten(file []byte, change func(entry map[string]any) (bool, error)) ([]byte, error) {
	in, err := ocf.NewReader(bytes.NewReader(file))
	if err != nil {
		return nil, err
	}
	var entries []any
	changed := false
	for {
		var entry map[string]any
		err := in.Decode(&entry)
		if err == io.EOF {
			break
		}
		if err != nil {
			return nil, err
		}
		one, err := change(entry)
		if err != nil {
			return nil, err
		}
		changed, entries = changed || one, append(entries, entry)
	}
	if !changed {
		return file, nil
	}
	metadata := in.Metadata()
	var out bytes.Buffer
	w, err := ocf.NewWriter(&out, in.Schema(), ocf.WithSchema(string(metadata["avro.schema"])), ocf.WithMetadata(own(metadata)),
		ocf.WithCodec(ocf.DeflateCodec(-1)))
	if err != nil {
		return nil, err
	}
	for _, entry := range entries {
		if err := w.Encode(entry); err != nil {
			return nil, err
		}
	}
	err = w.Close()
	return out.Bytes(), err
}

// own leaves out what the container format itself says of a file.
func own(metadata map[string][]byte) map[string][]byte {
	out := map[string][]byte{}
	for key, value := range metadata {
		if !strings.HasPrefix(key, "avro.") {
			out[key] = value
		}
	}
	return out
}

// mend gives the partition summaries of an entry the bounds that they lack, and reports whether there were any.
func (m *manifestList) mend(entry map[string]any, manifest iceberg.ManifestFile) (changed bool, err error) {
	summaries, _ := entry["partitions"].([]any)
	var empty []bool
	for i, s := range summaries {
		summary, _ := s.(map[string]any)
		if summary["lower_bound"] != nil {
			continue
		}
		if empty == nil {
			if empty, err = m.emptyTexts(manifest, len(summaries)); err != nil {
				return false, err
			}
		}
		if !empty[i] {
			continue
		}
		summary["lower_bound"], changed = []byte{}, true
		if summary["upper_bound"] == nil {
			summary["upper_bound"] = []byte{}
		}
	}
	return changed, nil
}

// emptyTexts reports for each of a manifest's n partition fields whether a file in it has the empty text there.
func (m *manifestList) emptyTexts(manifest iceberg.ManifestFile, n int) ([]bool, error) {
	file, err := m.files.Open(manifest.FilePath())
	if err != nil {
		return nil, err
	}
	defer file.Close()
	wrong := func(err error) error { return fmt.Errorf("reading the manifest %s: %w", manifest.FilePath(), err) }
	r, err := iceberg.NewManifestReader(manifest, file)
	if err != nil {
		return nil, wrong(err)
	}
	defer r.Close()
	spec, err := r.PartitionSpec()
	if err != nil {
		return nil, wrong(err)
	}
	found := make([]bool, n)
	for {
		entry, err := r.ReadEntry()
		if err == io.EOF {
			return found, nil
		}
		if err != nil {
			return nil, wrong(err)
		}
		values := entry.DataFile().Partition()
		for i := range min(n, spec.NumFields()) {
			if text, ok := values[spec.Field(i).FieldID].(string); ok && text == "" {
				found[i] = true
			}
		}
	}
}
