package render

import (
	"fmt"
	"strconv"
	"strings"
)

// Number writes a whole number with commas between thousands.
func Number(n int64) string {
	text := strconv.FormatInt(n, 10)
	start := 0
	if n < 0 {
		start = 1
	}
	for at := len(text) - 3; at > start; at -= 3 {
		text = text[:at] + "," + text[at:]
	}
	return text
}

// Count writes a number with its noun: 1 file, 2 files.
func Count(n int, one, many string) string {
	if n == 1 {
		return "1 " + one
	}
	return Number(int64(n)) + " " + many
}

// Size writes a number of bytes in a unit that keeps it short.
func Size(n int64) string {
	const step = 1000
	if n < step {
		return Count(int(n), "byte", "bytes")
	}
	value := float64(n)
	for _, unit := range []string{"kB", "MB", "GB", "TB"} {
		value /= step
		if value < step-0.05 || unit == "TB" {
			return fmt.Sprintf("%.1f %s", value, unit)
		}
	}
	return ""
}

// List writes up to most words with commas, and how many there are besides.
func List(words []string, most int) string {
	if len(words) <= most {
		return strings.Join(words, ", ")
	}
	return fmt.Sprintf("%s and %s more", strings.Join(words[:most], ", "), Number(int64(len(words)-most)))
}
