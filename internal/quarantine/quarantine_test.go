package quarantine

import (
	"io"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"

	"filippo.io/age"

	"trevak/internal/fault"
	"trevak/internal/parse"
	"trevak/internal/storage"
)

func TestRecordsComeBack(t *testing.T) {
	path := filepath.Join(t.TempDir(), "q.ndjson")
	f := New(storage.Disk{}, path, Seal{})
	if f.URI() != "" {
		t.Errorf("%s is there before any record", f.URI())
	}
	raws := []string{"1,\"a\nb\"\n", "2,\xff\r\n", "3,<&>"}
	for i, raw := range raws {
		r := Record{Object: "in.csv", Line: int64(i + 2), ByteOffset: parse.KnownOffset(9), Reason: parse.TooFewFields, Message: "m",
			Header: "id,note\n", Delimiter: ","}
		if err := f.Add(t.Context(), r, []byte(raw)); err != nil {
			t.Fatal(err)
		}
	}
	if err := f.Close(); err != nil || f.URI() != path {
		t.Fatalf("%s, %v", f.URI(), err)
	}
	text, err := os.ReadFile(path)
	if err != nil || !strings.Contains(string(text), `"raw":"3,<&>"`) ||
		!strings.Contains(string(text), `"raw":"","raw_base64":"Miz/DQo="`) {
		t.Errorf("%s, %v", text, err)
	}
	if first, ok := First(text); !ok || first.Line != 2 || first.Delimiter != "," {
		t.Errorf("%+v, %v", first, ok)
	}
	got, err := io.ReadAll(Unwrap(iotest.OneByteReader(strings.NewReader(string(text)))))
	if want := "id,note\n" + raws[0] + raws[1] + raws[2] + "\n"; string(got) != want || err != nil {
		t.Errorf("%q, %v, want %q", got, err, want)
	}
	if err := New(storage.Disk{}, path, Seal{}).Add(t.Context(), Record{}, nil); fault.KindOf(err) != fault.Usage {
		t.Errorf("a file is written over: %v", err)
	}
	f.Discard(t.Context())
	if err := New(storage.Disk{}, path, Seal{}).Close(); err != nil {
		t.Error(err)
	}
}

func TestFirstKnowsOthers(t *testing.T) {
	for _, text := range []string{"", "{}", "a,b\n", `{"object":"x","line":1}`,
		`{"object":1,"line":1,"byte_offset":1,"reason":"","message":"","raw":""}`} {
		if _, ok := First([]byte(text)); ok {
			t.Errorf("%q is taken for a quarantine file", text)
		}
	}
}

func TestUnwrapRefuses(t *testing.T) {
	good := `{"object":"x","line":1,"byte_offset":0,"reason":"r","message":"m","header":"a\n","raw":"1\n"}`
	for text, want := range map[string]string{
		good + "\n" + strings.Replace(good, `"a\n"`, `"b\n"`, 1): "record 2 of the quarantine file came from a file with another header",
		good + "\n{broken": "record 2 of the quarantine file is not one any more",
		strings.Replace(good, `"raw"`, `"raw_base64":"!","raw"`, 1): "not base64",
	} {
		if _, err := io.ReadAll(Unwrap(strings.NewReader(text))); fault.KindOf(err) != fault.Input ||
			!strings.Contains(err.Error(), want) {
			t.Errorf("%v, want %q", err, want)
		}
	}
}

func FuzzUnwrap(f *testing.F) {
	f.Add(`{"object":"x","line":1,"byte_offset":0,"reason":"r","message":"m","raw":"1\n"}`)
	f.Add(`{"raw_base64":"AA=="}{}`)
	f.Fuzz(func(t *testing.T, text string) {
		First([]byte(text))
		io.Copy(io.Discard, Unwrap(strings.NewReader(text)))
	})
}

// TestSealed writes a file that only who has the key reads.
func TestSealed(t *testing.T) {
	key, err := age.GenerateX25519Identity()
	if err != nil {
		t.Fatal(err)
	}
	seal, err := ParseSeal(key.Recipient().String())
	if err != nil {
		t.Fatal(err)
	}
	path := filepath.Join(t.TempDir(), "q.ndjson")
	f := New(storage.Disk{}, path, seal)
	for range 3 {
		if err := f.Add(t.Context(), Record{Object: "in.csv", Message: "m"}, []byte("Harbour Gold\n")); err != nil {
			t.Fatal(err)
		}
	}
	if err := f.Close(); err != nil || f.URI() != path+".age" {
		t.Fatalf("%s, %v", f.URI(), err)
	}
	text, err := os.ReadFile(f.URI())
	if err != nil || strings.Contains(string(text), "Gold") {
		t.Errorf("%q, %v", text, err)
	}
	plain, err := age.Decrypt(strings.NewReader(string(text)), key)
	if err != nil {
		t.Fatal(err)
	}
	if got, err := io.ReadAll(Unwrap(plain)); err != nil || string(got) != strings.Repeat("Harbour Gold\n", 3) {
		t.Errorf("%q, %v", got, err)
	}
	for text, want := range map[string]string{"plain": "", "none": "", "": "", "sealed": "is not known", "age1x": "no public key of age"} {
		if _, err := ParseSeal(text); (err == nil) != (want == "") || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%s: %v", text, err)
		}
	}
}
