package amend

import "trevak/internal/rowhash"

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
func (k *keys) find(key rowhash.Key) *entry {
	if at := key.Low & k.bits; k.filter[at/64]&(1<<(at%64)) == 0 {
		return nil
	}
	for at := key.High & k.mask; ; at = (at + 1) & k.mask {
		n := k.slots[at]
		if n == 0 {
			return nil
		}
		if e := &k.entries[n-1]; e.key == key {
			return e
		}
	}
}

// add makes an entry of a record whose key has none.
func (k *keys) add(r *record, row int64) {
	at := r.key.Low & k.bits
	k.filter[at/64] |= 1 << (at % 64)
	at = r.key.High & k.mask
	for k.slots[at] != 0 {
		at = (at + 1) & k.mask
	}
	k.entries = append(k.entries, entry{record: *r, row: row})
	k.slots[at] = uint32(len(k.entries))
}

// among finds which of some keys have entries: it appends the places of those to at, and the numbers of their entries to numbers.
// It goes through all keys one thing after the other, so that the memory which each needs is waited for together.
func (k *keys) among(list []rowhash.Key, at, numbers []uint32) ([]uint32, []uint32) {
	if cap(at) < len(list) {
		at, numbers = make([]uint32, 0, len(list)), make([]uint32, 0, len(list))
	}
	at, numbers = at[:len(list)], numbers[:len(list)]
	n := 0
	for i := range list {
		bit := list[i].Low & k.bits
		at[n] = uint32(i)
		n += int(k.filter[bit/64] >> (bit % 64) & 1)
	}
	for i, place := range at[:n] {
		numbers[i] = k.slots[list[place].High&k.mask]
	}
	found := 0
	for i, place := range at[:n] {
		key := list[place]
		for slot, number := key.High&k.mask, numbers[i]; number != 0; number = k.slots[slot] {
			if k.entries[number-1].key == key {
				at[found], numbers[found] = place, number-1
				found++
				break
			}
			slot = (slot + 1) & k.mask
		}
	}
	return at[:found], numbers[:found]
}
