package schema

import (
	"strconv"
	"strings"
	"unicode"
)

// SafeNames makes legal, distinct column names from the names of a source, one for one: letters, digits and _ stay in the
// case they have, runs of anything else become one _, a leading digit gets a _ before it, an empty name becomes cN by its
// position, and names that differ only in letter case are told apart by a number at the end.
func SafeNames(raw []string) []string {
	out := make([]string, len(raw))
	// A name that is legal as it stands keeps it; the others make way.
	taken := make(map[string]bool, len(raw))
	for i, name := range raw {
		if folded := strings.ToLower(name); name != "" && safeName(name) == name && !taken[folded] {
			out[i] = name
			taken[folded] = true
		}
	}
	for i, name := range raw {
		if out[i] != "" {
			continue
		}
		base := safeName(name)
		if base == "" {
			base = "c" + strconv.Itoa(i+1)
		}
		candidate := base
		for n := 2; taken[strings.ToLower(candidate)]; n++ {
			candidate = base + "_" + strconv.Itoa(n)
		}
		taken[strings.ToLower(candidate)] = true
		out[i] = candidate
	}
	return out
}

// safeName applies the rule to one name, with white space around it left out; the result is empty only for an empty name.
func safeName(name string) string {
	var b strings.Builder
	gap := false
	for _, r := range strings.TrimSpace(name) {
		if r != '_' && !unicode.IsLetter(r) && !unicode.IsDigit(r) {
			gap = true
			continue
		}
		if gap || (b.Len() == 0 && unicode.IsDigit(r)) {
			b.WriteByte('_')
		}
		gap = false
		b.WriteRune(r)
	}
	if gap {
		b.WriteByte('_')
	}
	return b.String()
}

// Nearest returns up to three of names that a mistyped name may have meant, the closest first.
func Nearest(name string, names []string) []string {
	type scored struct {
		name     string
		distance int
	}
	var best []scored
	limit := max(2, len(name)/3)
	for _, candidate := range names {
		d := editDistance(strings.ToLower(name), strings.ToLower(candidate), limit)
		if d > limit && !strings.Contains(strings.ToLower(candidate), strings.ToLower(name)) {
			continue
		}
		at := len(best)
		for at > 0 && best[at-1].distance > d {
			at--
		}
		best = append(best[:at], append([]scored{{candidate, d}}, best[at:]...)...)
	}
	var out []string
	for _, s := range best[:min(3, len(best))] {
		out = append(out, s.name)
	}
	return out
}

// editDistance is the Levenshtein distance in bytes; names that differ in length by more than limit are not measured.
func editDistance(a, b string, limit int) int {
	if abs(len(a)-len(b)) > limit {
		return limit + 1
	}
	row := make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		diagonal := row[0]
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := diagonal
			if a[i-1] != b[j-1] {
				cost = 1 + min(diagonal, row[j], row[j-1])
			}
			diagonal, row[j] = row[j], cost
		}
	}
	return row[len(b)]
}

func abs(n int) int {
	if n < 0 {
		return -n
	}
	return n
}
