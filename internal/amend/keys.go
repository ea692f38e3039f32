package amend

// entry is a key of the load, with the record that holds for it.
type entry struct {
	record
	row int64 // of the load
	// met is how many rows of the table have the key, behind that one of them is newer than the record.
	met    int32
	behind bool
}

// keys finds entries by their keys. Most that are looked for are not there, which a filter of bits tells of nearly all of them at once.
type keys struct {
	entries []entry
	slots   []uint32 // number of the entry + 1, 0 for none
	mask    uint64
	filter  []uint64
	bits    uint64
}

// filterBits is about how many bits the filter has for each key.
const filterBits = 16

// newKeys makes room for so many keys.
func newKeys(most int) *keys {
	slots := uint64(16)
	for slots < uint64(most)*2 {
		slots *= 2
	}
	words := max(1, slots/2*filterBits/64)
	return &keys{entries: make([]entry, 0, most), slots: make([]uint32, slots), mask: slots - 1, filter: make([]uint64, words),
		bits: words*64 - 1}
}

// find returns the entry of a key, nil for none.
func (k *keys) find(key hash) *entry {
	e, _ := k.number(key)
	return e
}

// add makes an entry of a record whose key has none.
func (k *keys) add(r *record, row int64) {
	at := r.key.low & k.bits
	k.filter[at/64] |= 1 << (at % 64)
	at = r.key.high & k.mask
	for k.slots[at] != 0 {
		at = (at + 1) & k.mask
	}
	k.entries = append(k.entries, entry{record: *r, row: row})
	k.slots[at] = uint32(len(k.entries))
}

// number is find, with the number of the entry.
func (k *keys) number(key hash) (*entry, uint32) {
	if at := key.low & k.bits; k.filter[at/64]&(1<<(at%64)) == 0 {
		return nil, 0
	}
	for at := key.high & k.mask; ; at = (at + 1) & k.mask {
		n := k.slots[at]
		if n == 0 {
			return nil, 0
		}
		if e := &k.entries[n-1]; e.key == key {
			return e, n - 1
		}
	}
}
