package columnar

import (
	"slices"

	"trevak/internal/prefault"
)

// translations turn the numbers of dictionaries that batches come with into those of the row group's dictionary. A value is
// looked up when its number first occurs; batches whose dictionaries are the same but for what was added at the end share that.
type translations struct {
	tables []translation
	// since is the first page of the row group: what is known from pages before it was of another dictionary.
	since uint32
	fresh []uint32 // memory for look
	pages []uint32 // of fresh, the last before
}

// forget has the dictionary of the row group begin anew with a page. The tables are kept, as the next row group is likely to come with the
// same dictionaries.
func (t *translations) forget(page uint32) { t.since = page }

type translation struct {
	of      *byte // where the dictionary lies in memory
	entries []translated
	page    uint32 // the page to which seen belongs
	seen    int    // how many entries occurred in it
}

// translated is what one number of a batch's dictionary stands for.
type translated struct {
	id   uint32 // in the row group's dictionary, plus one; 0 when it was not looked up yet
	page uint32 // the last page in which it occurred
}

// mostTranslations bounds how many dictionaries are remembered.
const mostTranslations = 16

// table returns the translation of an array's dictionary of n values, which lies at a place in memory. It is valid until the
// next is asked for.
func (t *translations) table(of *byte, n int) *translation {
	for i := range t.tables {
		known := &t.tables[i]
		if known.of != of {
			continue
		}
		if missing := n - len(known.entries); missing > 0 {
			known.entries = append(known.entries, make([]translated, missing)...)
		}
		return known
	}
	if len(t.tables) == mostTranslations {
		t.tables = append(t.tables[:0], t.tables[1:]...)
	}
	t.tables = append(t.tables, translation{of: of, entries: prefault.Table[translated](n)})
	return &t.tables[len(t.tables)-1]
}

// lookTogether is how many codes are looked up until it is seen whether there can be more that are new to the page.
const lookTogether = 1 << 10

// look translates codes, and returns those that did not occur in the open page, each once, which counts as the first of its
// pages where it is new. Codes that are not known yet come out as none, until they are and lookAgain is called.
func (t *translations) look(in *translation, codes, ids []uint32, page uint32) (fresh []uint32) {
	if in.page != page {
		in.page, in.seen = page, 0
	}
	room := min(len(codes), len(in.entries)+lookTogether)
	t.fresh, t.pages = slices.Grow(t.fresh[:0], room), slices.Grow(t.pages[:0], room)
	for len(codes) > 0 && in.seen < len(in.entries) {
		n := min(len(codes), lookTogether)
		known := len(t.fresh)
		more := lookCodes(in.entries, codes[:n], ids[:n], t.fresh[known:known+n], t.pages[known:known+n], page)
		t.fresh, t.pages = t.fresh[:known+more], t.pages[:known+more]
		in.seen += more
		codes, ids = codes[n:], ids[n:]
	}
	lookAgain(in.entries, codes, ids)
	for i, last := range t.pages {
		if last < t.since {
			in.entries[t.fresh[i]].id = 0
		}
	}
	return t.fresh
}

// lookCodes sets ids, of which there are as many as codes, and the first of fresh to those of the codes that did not occur in the
// page, those of pages to the last in which they did; it returns how many these are. Values that are rare turn up in no
// order that could be foreseen, so there is no branch for
// them. Within another function it would be short of registers.
//
//go:noinline
func lookCodes(entries []translated, codes, ids, fresh, pages []uint32, page uint32) (n int) {
	ids = ids[:len(codes)]
	for i, code := range codes {
		e := &entries[code]
		ids[i] = e.id - 1
		fresh[n], pages[n] = code, e.page
		if e.page != page {
			n++
		}
		e.page = page
	}
	return n
}

// lookAgain translates codes that are all known by now.
func lookAgain(table []translated, codes, ids []uint32) {
	ids = ids[:len(codes)]
	for i, code := range codes {
		ids[i] = table[code].id - 1
	}
}
