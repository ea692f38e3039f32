package parse

import (
	"bytes"
	"context"
	"strings"
	"testing"
	"testing/iotest"

	"trevak/internal/fault"
)

// lines cuts at line ends.
type lines struct{}

func (lines) Cut(buf []byte) int { return bytes.LastIndexByte(buf, '\n') + 1 }

func blocks(t *testing.T, text string, limits Limits) ([]Block, error) {
	t.Helper()
	var out []Block
	alloc := func(n int) ([]byte, error) { return make([]byte, 0, n), nil }
	err := Blocks(context.Background(), iotest.OneByteReader(strings.NewReader(text)), lines{}, limits, alloc, func(b Block) error {
		out = append(out, b)
		return nil
	})
	return out, err
}

func TestBlocksKeepTheirPlaces(t *testing.T) {
	text := "one\ntwo\n\nfour is longer\nfive"
	for size := 1; size < len(text)+3; size++ {
		got, err := blocks(t, text, Limits{BlockBytes: size, RecordBytes: 1 << 10})
		if err != nil {
			t.Fatal(err)
		}
		var whole strings.Builder
		for i, b := range got {
			if b.Index != i || b.Offset != int64(whole.Len()) || b.Line != int64(1+strings.Count(whole.String(), "\n")) {
				t.Fatalf("blocks of %d: %+v after %q", size, b, whole.String())
			}
			whole.Write(b.Data)
		}
		if whole.String() != text {
			t.Fatalf("blocks of %d hold %q", size, whole.String())
		}
	}
}

func TestBlocksRefuseEndlessRecords(t *testing.T) {
	_, err := blocks(t, "short\n"+strings.Repeat("x", 5000), Limits{BlockBytes: 64, RecordBytes: 1000})
	if fault.KindOf(err) != fault.Input || !strings.Contains(err.Error(), "does not end within") {
		t.Errorf("%v", err)
	}
	if got, err := blocks(t, "short\n"+strings.Repeat("x", 900)+"\n", Limits{BlockBytes: 64, RecordBytes: 1000}); err != nil ||
		len(got) != 2 {
		t.Errorf("%d blocks, %v", len(got), err)
	}
}

func TestBlocksSkipLines(t *testing.T) {
	for size := 1; size < 30; size++ {
		got, err := blocks(t, "a \"b\nc\nd\ne\n", Limits{BlockBytes: size, RecordBytes: 1 << 10, SkipLines: 2})
		if err != nil || got[0].Line != 3 || got[0].Offset != 7 || got[0].Data[0] != 'd' {
			t.Fatalf("blocks of %d: %+v, %v", size, got, err)
		}
	}
	if got, err := blocks(t, "a\n", Limits{BlockBytes: 5, RecordBytes: 100, SkipLines: 3}); err != nil || len(got) != 0 {
		t.Errorf("%+v, %v", got, err)
	}
}

func TestNotText(t *testing.T) {
	b := Block{Data: []byte("ok\nü\xffx\n")}
	p := NotText(&b, 3, 7)
	if !strings.Contains(p.Reason, "0xFF") || !strings.Contains(p.Reason, "byte 3 of the record") {
		t.Errorf("%s", p.Reason)
	}
}
