package weigh

import (
	"cmp"
	"fmt"
	"slices"
	"strings"

	"trevak/internal/columnar"
	"trevak/internal/fault"
)

// Favor is what a choice by trial favors: small files, little time to write and read, or both within bounds.
type Favor string

// What a choice can favor.
const (
	FavorSize    Favor = "size"
	FavorSpeed   Favor = "speed"
	FavorBalance Favor = "balance"
)

// ParseFavor reads size, speed or balance.
func ParseFavor(text string) (Favor, error) {
	switch f := Favor(text); f {
	case FavorSize, FavorSpeed, FavorBalance:
		return f, nil
	}
	return "", fault.Unknown("favor", text, "size", "speed", "balance")
}

// The usual codec is given up only for a gain. Differences below equalPercent are none. Under FavorBalance a file that is
// smaller by worthPercent may take balanceTimes as much time, and one of the same size has to take quickerPercent less.
const (
	equalPercent   = 5
	worthPercent   = 10
	balanceTimes   = 2
	quickerPercent = 25
)

// codecsTried are the codecs of trials.
var codecsTried = []columnar.Codec{"none", "snappy", "lz4", "zstd:1", "zstd:3", "zstd:9", "gzip:6", "brotli:5"}

// codecsFor are those of them that a format has, without levels where it has none.
func codecsFor(format columnar.Format) []columnar.Codec {
	var out []columnar.Codec
	for _, codec := range codecsTried {
		if !format.Has(codec) {
			name, _, _ := strings.Cut(string(codec), ":")
			codec = columnar.Codec(name)
		}
		if format.Has(codec) && !slices.Contains(out, codec) {
			out = append(out, codec)
		}
	}
	return out
}

// usual returns the trial of the codec that is used where nothing is said.
func usual(trials []columnar.Trial) columnar.Trial {
	for _, t := range trials {
		if name, level, _ := strings.Cut(string(t.Codec), ":"); name == string(columnar.DefaultCodec) && (level == "" || level == "3") {
			return t
		}
	}
	return trials[0]
}

// choose returns the trial that is favored, and in words what it gains over the usual codec. steady says that the times came
// out alike when they were taken again; without that they decide nothing.
func (f Favor) choose(trials []columnar.Trial, steady bool) (best columnar.Trial, why string) {
	u := usual(trials)
	switch f {
	case FavorSize:
		if best = slices.MinFunc(trials, bySize); smaller(best, u, equalPercent) {
			return best, fmt.Sprintf("which makes it %s", sizeAgainst(best, u))
		}
		return u, fmt.Sprintf("the usual one, since no other makes it %d%% smaller", equalPercent)
	case FavorSpeed:
		return f.quickest(trials, u, steady)
	}
	within := slices.DeleteFunc(slices.Clone(trials), func(t columnar.Trial) bool { return t.Seconds() > balanceTimes*u.Seconds() })
	if best = slices.MinFunc(within, bySize); smaller(best, u, worthPercent) {
		return best, fmt.Sprintf("which makes it %s, in %s", sizeAgainst(best, u), timeAgainst(best, u))
	}
	if alike := slices.DeleteFunc(within, func(t columnar.Trial) bool { return t.Bytes*100 > u.Bytes*(100+equalPercent) }); steady {
		if best = slices.MinFunc(alike, byTime); best.Seconds() < u.Seconds()*(100-quickerPercent)/100 {
			return best, fmt.Sprintf("which takes %s and is as small", timeAgainst(best, u))
		}
	}
	return u, fmt.Sprintf("the usual one, since no other makes it %d%% smaller in up to %d times its time", worthPercent, balanceTimes)
}

// quickest returns the trial that takes the least time, of those that take as little the smallest.
func (f Favor) quickest(trials []columnar.Trial, u columnar.Trial, steady bool) (columnar.Trial, string) {
	if !steady {
		return u, "the usual one, since the times differ too much from one trial to the next to tell which is quicker"
	}
	least := slices.MinFunc(trials, byTime).Seconds()
	alike := slices.DeleteFunc(slices.Clone(trials), func(t columnar.Trial) bool { return t.Seconds() > least*(100+equalPercent)/100 })
	if u.Seconds() <= least*(100+equalPercent)/100 {
		return u, "the usual one, since no other takes less time"
	}
	best := slices.MinFunc(alike, bySize)
	return best, fmt.Sprintf("which takes %s and is %s", timeAgainst(best, u), sizeAgainst(best, u))
}

func bySize(a, b columnar.Trial) int { return cmp.Compare(a.Bytes, b.Bytes) }

func byTime(a, b columnar.Trial) int { return cmp.Compare(a.Seconds(), b.Seconds()) }

// smaller reports whether a trial took so many percent fewer bytes than another.
func smaller(t, than columnar.Trial, percent int64) bool {
	return t.Bytes*100 < than.Bytes*(100-percent)
}

// sizeAgainst says how a trial's size stands to another's.
func sizeAgainst(t, u columnar.Trial) string {
	switch percent := 100 * float64(t.Bytes-u.Bytes) / float64(max(1, u.Bytes)); {
	case percent < 0:
		return fmt.Sprintf("%.0f%% smaller than %s", -percent, u.Codec)
	default:
		return fmt.Sprintf("%.0f%% larger than %s", percent, u.Codec)
	}
}

// timeAgainst says how a trial's time stands to another's.
func timeAgainst(t, u columnar.Trial) string {
	return fmt.Sprintf("%.1f times the time of %s", t.Seconds()/max(u.Seconds(), 1e-9), u.Codec)
}

// ofColumn returns the trial of a single column that is favored. Its times are too short to decide more than whether a codec is
// far slower.
func (f Favor) ofColumn(trials []columnar.Trial) columnar.Trial {
	u := usual(trials)
	if f == FavorSpeed {
		return u
	}
	percent := int64(equalPercent)
	if f == FavorBalance {
		percent = worthPercent
		trials = slices.DeleteFunc(slices.Clone(trials), func(t columnar.Trial) bool { return t.Seconds() > balanceTimes*u.Seconds() })
	}
	if best := slices.MinFunc(trials, bySize); smaller(best, u, percent) {
		return best
	}
	return u
}
