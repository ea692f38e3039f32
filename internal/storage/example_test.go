package storage_test

import (
	"context"
	"errors"
	"fmt"

	"trevak/internal/storage"
)

func Example() {
	ctx, s := context.Background(), storage.NewMemory()
	w, err := s.Create(ctx, "mem://harbour/readings/1.csv", storage.Creation{})
	if err != nil {
		fmt.Println(err)
		return
	}
	fmt.Fprint(w, "id\n1\n")
	fmt.Println("there before it is committed:", storage.Exists(ctx, s, "mem://harbour/readings/1.csv"))
	if err := w.Commit(); err != nil {
		fmt.Println(err)
	}
	listed, _ := s.Stat(ctx, "mem://harbour/readings/1.csv")
	fmt.Println(listed.Size, "bytes")
	_ = storage.WriteAll(ctx, s, listed.URI, []byte("id\n1\n2\n"), storage.Creation{Mode: storage.Replace})
	_, err = s.Open(ctx, listed)
	fmt.Println("what was listed is what is opened:", !errors.Is(err, storage.ErrChanged))
	// Output:
	// there before it is committed: false
	// 5 bytes
	// what was listed is what is opened: false
}

func ExampleGlob() {
	ctx, s := context.Background(), storage.NewMemory()
	for _, name := range []string{"1.csv", "old/2.csv", "note.txt"} {
		_ = storage.WriteAll(ctx, s, storage.Join("mem://harbour", name), []byte("x"), storage.Creation{})
	}
	found, _, _ := storage.Glob(ctx, s, "mem://harbour/**/*.csv")
	fmt.Println(len(found), "objects")
	// Output: 2 objects
}
