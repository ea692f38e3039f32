package wording

import "strings"

// Nearest returns up to three of names that a mistyped name may have meant, the closest first.
func Nearest(name string, names []string) []string {
	type scored struct {
		name     string
		distance int
	}
	var best []scored
	limit := max(1, len(name)/3)
	if len(name) > 4 {
		limit = max(limit, 2)
	}
	for _, candidate := range names {
		d := Distance(strings.ToLower(name), strings.ToLower(candidate), limit)
		if (d > limit || d >= len(name)) && !strings.Contains(strings.ToLower(candidate), strings.ToLower(name)) {
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

// Meant says which names, of which there is one at least, a mistyped one may have meant.
func Meant(near []string) string {
	if len(near) == 1 {
		return "the nearest name is " + near[0]
	}
	return "the nearest names are " + strings.Join(near, ", ")
}

// Choose says what to use in the place of a word that is none of a few: the one that it comes nearest to, and all there are.
func Choose(word string, words []string) string {
	all := "use " + Either(words)
	if near := Nearest(word, words); word != "" && len(near) > 0 && len(words) > 2 {
		return Meant(near[:1]) + "; " + all
	}
	return all
}

// Either lists words of which one is to be chosen.
func Either(words []string) string {
	last := len(words) - 1
	if last < 1 {
		return strings.Join(words, "")
	}
	return strings.Join(words[:last], ", ") + " or " + words[last]
}

// Distance counts the bytes to put in, take out, change, or swap with their neighbour so that one name becomes another (optimal
// string alignment); names that differ in length by more than limit are not measured.
func Distance(a, b string, limit int) int {
	if abs(len(a)-len(b)) > limit {
		return limit + 1
	}
	before, last, row := make([]int, len(b)+1), make([]int, len(b)+1), make([]int, len(b)+1)
	for j := range row {
		row[j] = j
	}
	for i := 1; i <= len(a); i++ {
		before, last, row = last, row, before
		row[0] = i
		for j := 1; j <= len(b); j++ {
			cost := last[j-1]
			if a[i-1] != b[j-1] {
				cost = 1 + min(last[j-1], last[j], row[j-1])
			}
			if i > 1 && j > 1 && a[i-1] == b[j-2] && a[i-2] == b[j-1] {
				cost = min(cost, before[j-2]+1)
			}
			row[j] = cost
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
