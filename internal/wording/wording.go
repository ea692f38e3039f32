// Package wording puts numbers and lists into words for messages.
package wording

import (
	"fmt"
	"strings"

	"golang.org/x/text/language"
	"golang.org/x/text/message"
)

// English writes numbers with commas between thousands.
var English = message.NewPrinter(language.English)

// Count writes a number with its noun, "about" before it where it is not exact.
func Count(n int64, exact bool, one, many string) string {
	text := fmt.Sprintf("%d %s", n, many)
	if n == 1 {
		text = "1 " + one
	}
	if !exact {
		text = "about " + text
	}
	return text
}

// Some lists the first few of many.
func Some(list []string) string {
	const most = 5
	if len(list) > most {
		return fmt.Sprintf("%s and %d more", strings.Join(list[:most], ", "), len(list)-most)
	}
	return strings.Join(list, ", ")
}
