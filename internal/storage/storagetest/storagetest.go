// Package storagetest holds stores against what the interfaces of package storage promise, for their tests.
package storagetest

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"math/rand/v2"
	"strings"
	"testing"
	"time"

	"trevak/internal/storage"
)

func mustWrite(t testing.TB, s storage.Store, uri, text string) {
	t.Helper()
	creation := storage.Creation{Mode: storage.Replace, Durable: true}
	if err := storage.WriteAll(t.Context(), s, uri, []byte(text), creation); err != nil {
		t.Fatal(err)
	}
}

func names(t testing.TB, s storage.Store, folder string) string {
	t.Helper()
	entries, err := s.List(t.Context(), folder)
	if err != nil {
		t.Fatal(err)
	}
	var out []string
	for _, e := range entries {
		out = append(out, fmt.Sprintf("%s:%d", e.Name, e.Kind))
	}
	return strings.Join(out, " ")
}

// Hold holds a store against what the interfaces promise, in a folder that is empty.
func Hold(t *testing.T, s storage.Store, home string) {
	t.Helper()
	ctx := t.Context()
	at := func(parts ...string) string { return storage.Join(home, parts...) }
	if _, err := s.Stat(ctx, at("none")); !errors.Is(err, fs.ErrNotExist) {
		t.Errorf("what is not there: %v", err)
	}
	w, err := s.Create(ctx, at("deep", "in", "a.csv"), storage.Creation{})
	if err != nil {
		t.Fatal(err)
	}
	io.WriteString(w, "first")
	if storage.Exists(ctx, s, at("deep", "in", "a.csv")) {
		t.Error("an object is there before it is committed")
	}
	if err := w.Commit(); err != nil || w.Abort() != nil {
		t.Fatal(err)
	}
	mustWrite(t, s, at("deep", "b.csv"), "b")
	if got := names(t, s, at("deep")); got != "b.csv:0 in:1" {
		t.Errorf("listed: %s", got)
	}
	if _, err := s.Create(ctx, at("deep", "b.csv"), storage.Creation{}); !errors.Is(err, fs.ErrExist) {
		t.Errorf("what is there already: %v", err)
	}
	checkVersions(t, s, at("deep", "in", "a.csv"))
	checkRace(t, s, at("race.txt"))
	w, err = s.Create(ctx, at("given-up"), storage.Creation{})
	if err != nil || w.Abort() != nil || storage.Exists(ctx, s, at("given-up")) {
		t.Errorf("what was given up: %v", err)
	}
	var seen []string
	err = storage.Walk(ctx, s, home, func(e storage.Entry, err error) error {
		rel, _ := storage.Rel(storage.Path(home), storage.Path(e.URI))
		seen = append(seen, rel)
		return err
	})
	if got := strings.Join(seen, " "); err != nil || got != "deep deep/b.csv deep/in deep/in/a.csv race.txt" {
		t.Errorf("walked: %s, %v", got, err)
	}
	found, _, err := storage.Glob(ctx, s, at("**", "*.csv"))
	storage.SortEntries(found)
	if err != nil || len(found) != 2 || storage.Base(found[0].URI) != "a.csv" {
		t.Errorf("found: %v, %v", found, err)
	}
	if err := storage.RemoveAll(ctx, s, at("deep")); err != nil || storage.Exists(ctx, s, at("deep")) {
		t.Errorf("removed: %v", err)
	}
}

// checkVersions opens an object at the version that it was listed at, and after it changed.
func checkVersions(t *testing.T, s storage.Store, uri string) {
	t.Helper()
	listed, err := s.Stat(t.Context(), uri)
	if err != nil || listed.Size != 5 {
		t.Fatal(listed, err)
	}
	f, err := s.Open(t.Context(), listed)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	middle := make([]byte, 3)
	if _, err := f.ReadAt(middle, 1); err != nil || string(middle) != "irs" {
		t.Errorf("%q, %v", middle, err)
	}
	if text, err := io.ReadAll(f); string(text) != "first" || err != nil || f.Unchanged() != nil {
		t.Errorf("%q, %v, %v", text, err, f.Unchanged())
	}
	time.Sleep(20 * time.Millisecond)
	mustWrite(t, s, uri, "other")
	again, err := s.Open(t.Context(), listed)
	if err == nil {
		// Stores that are far away tell it with the first byte, unless they have that version at hand.
		var text []byte
		if text, err = io.ReadAll(again); err == nil && string(text) == "first" {
			err = storage.ErrChanged
		}
		again.Close()
	}
	if !errors.Is(err, storage.ErrChanged) {
		t.Errorf("an object that was changed: %v", err)
	}
}

// checkRace creates an object twice at a time; only one of the two may be there.
func checkRace(t *testing.T, s storage.Store, uri string) {
	t.Helper()
	var won int
	var writers []storage.Writer
	for range 2 {
		w, err := s.Create(t.Context(), uri, storage.Creation{})
		if err != nil {
			t.Fatal(err)
		}
		writers = append(writers, w)
	}
	for _, w := range writers {
		if err := w.Commit(); err == nil {
			won++
		} else if !errors.Is(err, fs.ErrExist) {
			t.Errorf("the one that came too late: %v", err)
		}
	}
	if won != 1 {
		t.Errorf("%d of two that exclude each other are there", won)
	}
}

// Large holds a store against what is promised of objects of many parts, in a folder that is empty.
func Large(t *testing.T, s storage.Store, home string) {
	t.Helper()
	uri, random := storage.Join(home, "large.bin"), rand.New(rand.NewPCG(3, 1))
	want := make([]byte, 21<<20+17)
	for i := range want {
		want[i] = byte(random.Uint32())
	}
	w, err := s.Create(t.Context(), uri, storage.Creation{})
	if err != nil {
		t.Fatal(err)
	}
	for rest := want; len(rest) > 0; {
		n := min(len(rest), 1+random.IntN(300_000))
		if _, err := w.Write(rest[:n]); err != nil {
			t.Fatal(err)
		}
		rest = rest[n:]
	}
	if storage.Exists(t.Context(), s, uri) {
		t.Error("an object is there before it is committed")
	}
	if err := w.Commit(); err != nil {
		t.Fatal(err)
	}
	o, err := s.Stat(t.Context(), uri)
	if err != nil || o.Size != int64(len(want)) {
		t.Fatal(o, err)
	}
	f, err := s.Open(t.Context(), o)
	if err != nil {
		t.Fatal(err)
	}
	defer f.Close()
	if got, err := io.ReadAll(f); err != nil || !bytes.Equal(got, want) {
		t.Fatalf("%d bytes came back of %d, %v", len(got), len(want), err)
	}
	for range 20 {
		at, piece := random.IntN(len(want)), make([]byte, random.IntN(2_000_000))
		n, err := f.ReadAt(piece, int64(at))
		if !bytes.Equal(piece[:n], want[at:min(len(want), at+len(piece))]) || err != nil && !errors.Is(err, io.EOF) {
			t.Fatalf("%d bytes at %d: %d, %v", len(piece), at, n, err)
		}
	}
	// One of exactly whole parts, and one that is given up.
	even := want[:16<<20]
	if err := storage.WriteAll(t.Context(), s, storage.Join(home, "even.bin"), even, storage.Creation{}); err != nil {
		t.Fatal(err)
	}
	if got, err := storage.ReadAll(t.Context(), s, storage.Join(home, "even.bin")); err != nil || !bytes.Equal(got, even) {
		t.Errorf("%d bytes came back of %d, %v", len(got), len(even), err)
	}
	if w, err = s.Create(t.Context(), storage.Join(home, "given-up.bin"), storage.Creation{}); err == nil {
		w.Write(want)
		err = w.Abort()
	}
	if err != nil || storage.Exists(t.Context(), s, storage.Join(home, "given-up.bin")) {
		t.Errorf("what was given up: %v", err)
	}
}
