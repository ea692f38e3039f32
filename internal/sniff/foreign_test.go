package sniff

import (
	"strings"
	"testing"
)

func TestForeignFormatsAreNamed(t *testing.T) {
	tar := make([]byte, 512)
	copy(tar, "stations.csv")
	copy(tar[257:], "ustar\x0000")
	for head, want := range map[string]string{
		"%PDF-1.7\n":                       "is PDF, which is not read; take what it holds out",
		"SQLite format 3\x00\x10":          "is a SQLite database",
		"\x89PNG\r\n\x1a\n\x00":            "is a picture",
		"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1": "is a workbook or document of the old binary form",
		"\xff\xff\xff\xff\x60\x02":         "is an Arrow stream",
		string(tar):                        "is a tar archive, whose members are not read one by one; unpack it into a folder with tar -xf",
		"a,b\n1,2\n":                       "",
		"Rare birds,12\n":                  "",
		"\xff\xfea\x00,\x00":               "",
	} {
		err := Foreign([]byte(head))
		if (want == "") != (err == nil) || err != nil && !strings.Contains(err.Error(), want) {
			t.Errorf("%.20q: %v, want %q", head, err, want)
		}
	}
}
