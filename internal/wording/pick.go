package wording

import (
	"slices"
	"strconv"
	"strings"
)

// Pick returns the positions of names that are picked: by name, in any letter case, by number from 1, or by a range of numbers like 4-9.
// wrong is the first that picks none; it is empty where each does. Without picks all are.
func Pick(picks, names []string) (at []int, wrong string) {
	if len(picks) == 0 {
		for i := range names {
			at = append(at, i)
		}
		return at, ""
	}
	for _, pick := range picks {
		if i := slices.IndexFunc(names, func(name string) bool { return strings.EqualFold(name, pick) }); i >= 0 {
			at = append(at, i)
			continue
		}
		first, last, ranged := strings.Cut(pick, "-")
		if !ranged {
			last = first
		}
		from, err := strconv.Atoi(strings.TrimSpace(first))
		to, err2 := strconv.Atoi(strings.TrimSpace(last))
		if err != nil || err2 != nil || from < 1 || from > to || from > len(names) {
			return nil, pick
		}
		for i := from; i <= min(to, len(names)); i++ {
			at = append(at, i-1)
		}
	}
	return at, ""
}
