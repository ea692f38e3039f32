package amend

import (
	"bufio"
	"encoding/binary"
	"fmt"
	"io"

	"trevak/internal/rowhash"
	"trevak/internal/storage"
)

// printed is of how many columns a row keeps a print, a byte each.
const printed = 15

// record is what is kept of a row of the load while it is looked for in the table.
type record struct {
	key rowhash.Key
	// newest orders rows of the same key, 0 for null.
	newest uint64
	// content is a hash of all values that are held against the table's, and prints a byte of those of the first columns.
	content uint64
	prints  [printed]byte
	// mark says that the row marks a delete.
	mark bool
}

// recordBytes is the length of a record on the disk.
const recordBytes = 48

func (r *record) append(b []byte) []byte {
	for _, v := range [...]uint64{r.key.High, r.key.Low, r.newest, r.content} {
		b = binary.LittleEndian.AppendUint64(b, v)
	}
	mark := byte(0)
	if r.mark {
		mark = 1
	}
	return append(append(b, r.prints[:]...), mark)
}

func (r *record) read(b []byte) {
	r.key = rowhash.Key{High: binary.LittleEndian.Uint64(b), Low: binary.LittleEndian.Uint64(b[8:])}
	r.newest, r.content = binary.LittleEndian.Uint64(b[16:]), binary.LittleEndian.Uint64(b[24:])
	copy(r.prints[:], b[32:])
	r.mark = b[recordBytes-1] != 0
}

// log is the records of a load in their order: the first of them in memory, and what that has no room for on the disk.
type log struct {
	most   int // in memory
	dir    string
	chunks [][]record
	held   int // in memory
	n      int64
	file   *storage.Scratch
	buffer *bufio.Writer
	bytes  []byte
}

func (l *log) add(list []record) error {
	l.n += int64(len(list))
	if l.file == nil && l.held+len(list) <= l.most {
		l.chunks, l.held = append(l.chunks, list), l.held+len(list)
		return nil
	}
	if l.file == nil {
		var err error
		if l.file, err = storage.NewScratch(l.dir); err != nil {
			return fmt.Errorf("keys that wait cannot be put on the disk: %w", err)
		}
		l.buffer = bufio.NewWriterSize(l.file, 1<<20)
	}
	for i := range list {
		l.bytes = list[i].append(l.bytes[:0])
		if _, err := l.buffer.Write(l.bytes); err != nil {
			return fmt.Errorf("keys that wait cannot be put on the disk: %w", err)
		}
	}
	return nil
}

// each hands on all records in their order, with their numbers from 0. It can be called again.
func (l *log) each(take func(n int64, r *record)) error {
	number := int64(0)
	for _, list := range l.chunks {
		for i := range list {
			take(number, &list[i])
			number++
		}
	}
	if l.file == nil {
		return nil
	}
	err := l.buffer.Flush()
	if err == nil {
		_, err = l.file.Seek(0, io.SeekStart)
	}
	if err != nil {
		return fmt.Errorf("keys that wait cannot be put on the disk: %w", err)
	}
	in := bufio.NewReaderSize(l.file, 1<<20)
	var r record
	b := make([]byte, recordBytes)
	for ; number < l.n; number++ {
		if _, err := io.ReadFull(in, b); err != nil {
			return fmt.Errorf("keys that wait cannot be read back: %w", err)
		}
		r.read(b)
		take(number, &r)
	}
	return nil
}

func (l *log) close() {
	if l.file != nil {
		l.file.Close()
	}
	l.chunks, l.file = nil, nil
}
