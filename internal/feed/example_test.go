package feed_test

import (
	"fmt"

	"trevak/internal/feed"
)

func ExampleParse() {
	f, err := feed.Parse([]byte("feed: 1\nsource:\n  files: [tides/*.tsv]\nreading:\n  delimiter: tab\ncolumns:\n  - {name: at, " +
		"type: timestamp}\n"))
	fmt.Println(f.Values["source.files"], f.One("reading.delimiter"), f.Columns[0].Type, err)
	_, err = feed.Parse([]byte("feed: 1\nreading:\n  delimter: tab\n"))
	fmt.Println(err != nil)
	// Output:
	// [tides/*.tsv] tab timestamp <nil>
	// true
}
