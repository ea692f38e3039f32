package locate_test

import (
	"bytes"
	"compress/gzip"
	"context"
	"fmt"
	"io"

	"trevak/internal/locate"
	"trevak/internal/storage"
)

func ExampleResolve() {
	ctx, s := context.Background(), storage.NewMemory()
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	fmt.Fprint(z, "id\n2\n")
	z.Close()
	for name, content := range map[string][]byte{"1.csv": []byte("id\n1\n"), "2.csv.gz": packed.Bytes(), "_draft.csv": []byte("x"),
		"empty.csv": nil} {
		_ = storage.WriteAll(ctx, s, storage.Join("mem://harbour", name), content, storage.Creation{})
	}
	found, err := locate.Resolve(ctx, s, []string{"mem://harbour"}, nil)
	if err != nil {
		fmt.Println(err)
		return
	}
	for _, object := range found.Objects {
		stream, _ := object.Open(ctx)
		text, _ := io.ReadAll(stream)
		fmt.Printf("%s (%s): %q\n", object.Location, stream.Compression, text)
		stream.Close()
	}
	fmt.Println(found.Empty, "empty,", found.Hidden, "hidden")
	// Output:
	// mem://harbour/1.csv (none): "id\n1\n"
	// mem://harbour/2.csv.gz (gzip): "id\n2\n"
	// 1 empty, 1 hidden
}
