package sniff

import (
	"bytes"

	"trevak/internal/fault"
)

// foreign are formats that are recognised so that they can be refused by name.
var foreign = []struct{ magic, name string }{
	{"%PDF", "PDF"}, {"SQLite format 3\x00", "a SQLite database"}, {"7z\xbc\xaf\x27\x1c", "a 7z archive"},
	{"Rar!\x1a\x07", "a rar archive"}, {"!<arch>\n", "an ar archive"}, {"\x89HDF\r\n\x1a\n", "an HDF5 file"}, {"\x93NUMPY", "a NumPy array"},
	{"\x89PNG\r\n\x1a\n", "a picture"}, {"\xff\xd8\xff", "a picture"}, {"GIF8", "a picture"}, {"\x7fELF", "a program"},
	{"\xd0\xcf\x11\xe0\xa1\xb1\x1a\xe1", "a workbook or document of the old binary form"},
}

// arrowStream begins a stream of Arrow: the mark of a message (Arrow, "Encapsulated message format").
const arrowStream = "\xff\xff\xff\xff"

// tarMark stands at tarMarkAt in a tar archive (POSIX.1-2017, pax, "ustar Interchange Format").
const (
	tarMark   = "ustar"
	tarMarkAt = 257
)

// Foreign refuses what the first bytes of an object, unpacked, show to be of a format that is not read; it names the format.
func Foreign(head []byte) error {
	for _, f := range foreign {
		if bytes.HasPrefix(head, []byte(f.magic)) {
			return fault.New(fault.Input, "is %s, which is not read", f.name).
				Try("take what it holds out of it, as delimited text, JSON lines, a workbook of the form .xlsx or a columnar file")
		}
	}
	switch {
	case len(head) > tarMarkAt && bytes.HasPrefix(head[tarMarkAt:], []byte(tarMark)):
		return fault.New(fault.Input, "is a tar archive, whose members are not read one by one").
			Try("unpack it into a folder with tar -xf, and name the folder")
	case bytes.HasPrefix(head, []byte(arrowStream)):
		return fault.New(fault.Input, "is an Arrow stream, which is not read").Try("have it written as an Arrow file")
	}
	return nil
}
