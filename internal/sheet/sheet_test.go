package sheet

import (
	"archive/zip"
	"bytes"
	"encoding/json"
	"io"
	"strings"
	"testing"
)

// archiveOf makes a zip archive of parts.
func archiveOf(t testing.TB, parts map[string]string) *zip.Reader {
	t.Helper()
	var b bytes.Buffer
	w := zip.NewWriter(&b)
	for _, name := range []string{"mimetype", "xl/workbook.xml", "xl/_rels/workbook.xml.rels", "xl/styles.xml", "xl/sharedStrings.xml",
		"xl/worksheets/sheet1.xml", "xl/worksheets/sheet2.xml", contentPart} {
		if text, ok := parts[name]; ok {
			f, err := w.Create(name)
			if err != nil {
				t.Fatal(err)
			}
			io.WriteString(f, text)
		}
	}
	if err := w.Close(); err != nil {
		t.Fatal(err)
	}
	z, err := zip.NewReader(bytes.NewReader(b.Bytes()), int64(b.Len()))
	if err != nil {
		t.Fatal(err)
	}
	return z
}

// workbook is one with a sheet of the given rows, as XML.
func workbook(rows string, since string) map[string]string {
	return map[string]string{
		"xl/workbook.xml": `<workbook xmlns:r="u"><workbookPr date1904="` + since +
			`"/><sheets><sheet name="Spring" sheetId="1" r:id="a"/>` +
			`<sheet name="Old" sheetId="2" state="hidden" r:id="b"/><sheet name="Picture" sheetId="3" r:id="c"/></sheets></workbook>`,
		"xl/_rels/workbook.xml.rels": `<Relationships><Relationship Id="a" Type="x/worksheet" Target="worksheets/sheet1.xml"/>` +
			`<Relationship Id="b" Type="x/worksheet" Target="/xl/worksheets/sheet2.xml"/><Relationship Id="c" Type="x/chartsheet" Target="x.xml"/></Relationships>`,
		"xl/styles.xml": `<styleSheet><numFmts><numFmt numFmtId="164" formatCode="yyyy\-mm\-dd"/><numFmt numFmtId="165" formatCode="[h]:mm"/><numFmt numFmtId="166" formatCode="0.00&quot; days&quot;"/></numFmts>` +
			`<cellStyleXfs><xf numFmtId="14"/></cellStyleXfs><cellXfs><xf numFmtId="0"/><xf numFmtId="164"/><xf numFmtId="22"/><xf numFmtId="20"/><xf numFmtId="165"/><xf numFmtId="166"/></cellXfs></styleSheet>`,
		"xl/sharedStrings.xml":     `<sst><si><t>Sea Area</t></si><si><r><t>Cairn </t></r><r><t>Bay</t></r><rPh><t>no</t></rPh></si><si><t xml:space="preserve">a_x000A_"b"</t></si></sst>`,
		"xl/worksheets/sheet1.xml": `<worksheet><sheetData>` + rows + `</sheetData></worksheet>`,
		"xl/worksheets/sheet2.xml": `<worksheet/>`,
	}
}

func rowsOf(t testing.TB, s Sheet) (string, error) {
	t.Helper()
	r, err := s.Rows()
	if err != nil {
		return "", err
	}
	defer r.Close()
	all, err := io.ReadAll(r)
	return string(all), err
}

func TestCellsByTheirTypes(t *testing.T) {
	rows := `<row r="1"><c r="A1" t="s"><v>0</v></c><c r="C1" t="s"><v>1</v></c></row>` +
		`<row r="3"><c r="A3"><v>12.50</v></c><c r="B3" s="1"><v>47969</v></c><c r="C3" s="2"><v>47969.427430555559</v></c><c r="D3" s="3"><v>0.5</v></c><c r="E3" s="4"><v>1.5</v></c><c r="F3" s="5"><v>3</v></c></row>` +
		`<row><c t="b"><v>1</v></c><c t="e"><v>#N/A</v></c><c t="inlineStr"><is><t>0042</t></is></c><c t="str"><f>A1</f><v>x</v></c><c/><c><v>1E-3</v></c><c t="s"><v>2</v></c><c><f>1</f></c></row>`
	b, err := NewBook(archiveOf(t, workbook(rows, "0")))
	if err != nil {
		t.Fatal(err)
	}
	if len(b.Sheets) != 2 || b.Sheets[0].Name != "Spring" || b.Sheets[0].Hidden || !b.Sheets[1].Hidden {
		t.Errorf("%+v", b.Sheets)
	}
	got, err := rowsOf(t, b.Sheets[0])
	want := `["Sea Area",null,"Cairn Bay"]` + "\n[]\n" + `[12.50,"2031-05-01","2031-05-01T10:15:30","12:00:00",1.5,3]` + "\n" +
		`[true,"#N/A","0042","x",null,1E-3,"a\n\"b\""]` + "\n"
	if err != nil || got != want {
		t.Errorf("%v\n%s\nwant\n%s", err, got, want)
	}
	b, err = NewBook(archiveOf(t, workbook(`<row r="1"><c s="1"><v>46507</v></c></row>`, "1")))
	if err != nil {
		t.Fatal(err)
	}
	if got, err := rowsOf(t, b.Sheets[0]); err != nil || got != "[\"2031-05-01\"]\n" {
		t.Errorf("counted from 1904: %s, %v", got, err)
	}
}

func TestDatesOfOldWorkbooks(t *testing.T) {
	for serial, want := range map[string]string{"1": "1900-01-01", "59": "1900-02-28", "61": "1900-03-01", "25569": "1970-01-01",
		"2958465": "9999-12-31"} {
		if got, ok := moment(serial, aDate, days1900); !ok || got != want {
			t.Errorf("%s: %s, %v, want %s", serial, got, ok, want)
		}
	}
	if got, ok := moment("0.99999999999", aTime, days1900); !ok || !strings.HasPrefix(got, "1900-01-01T00:00:00") && got != "00:00:00" {
		t.Errorf("the end of a day: %s, %v", got, ok)
	}
	for code, want := range map[string]dateKind{"General": noDate, "0.00": noDate, "yyyy-mm-dd": aDate, "d/m/yy h:mm": both,
		"h:mm AM/PM": aTime, "[h]:mm:ss": noDate, `0" days"`: noDate, "[$-409]d-mmm-yy": aDate,
		"mm:ss": aTime, `#,##0.00\ "sh"`: noDate, "[Red]0;yyyy": noDate, "mmm": aDate} {
		if got := kindOf(code); got != want {
			t.Errorf("%s: %d, want %d", code, got, want)
		}
	}
}

func TestOpenDocuments(t *testing.T) {
	content := `<office:document-content xmlns:office="o" xmlns:table="t" xmlns:text="x"><office:body><table:table table:name="A"><table:table-row><table:table-cell office:value-type="string"><text:p>first</text:p></table:table-cell></table:table-row></table:table>` +
		`<table:table table:name="B"><table:table-row table:number-rows-repeated="2"><table:table-cell/></table:table-row>` +
		`<table:table-row><table:table-cell office:value-type="float" office:value="12.50"><text:p>12,5</text:p></table:table-cell><table:table-cell table:number-columns-repeated="2" office:value-type="boolean" office:boolean-value="true"/>` +
		`<table:table-cell office:value-type="date" office:date-value="2031-05-01"/><table:table-cell office:value-type="time" office:time-value="PT10H05M30S"/>` +
		`<table:table-cell office:value-type="string"><office:annotation><text:p>not this</text:p></office:annotation><text:p>a<text:s text:c="2"/>b</text:p><text:p>c</text:p></table:table-cell><table:table-cell table:number-columns-repeated="16000"/></table:table-row>` +
		`<table:table-row table:number-rows-repeated="1048000"><table:table-cell table:number-columns-repeated="16384"/></table:table-row></table:table></office:body></office:document-content>`
	z := archiveOf(t, map[string]string{"mimetype": "application/vnd.oasis.opendocument.spreadsheet", contentPart: content})
	if !IsBook(z) {
		t.Fatal("it is no workbook")
	}
	b, err := NewBook(z)
	if err != nil || len(b.Sheets) != 2 {
		t.Fatalf("%+v, %v", b, err)
	}
	if got, err := rowsOf(t, b.Sheets[1]); err != nil || got != "[]\n[]\n"+`[12.50,true,true,"2031-05-01","10:05:30","a  b\nc"]`+"\n" {
		t.Errorf("%s, %v", got, err)
	}
	if got, err := rowsOf(t, b.Sheets[0]); err != nil || got != "[\"first\"]\n" {
		t.Errorf("%s, %v", got, err)
	}
}

func TestBrokenWorkbooks(t *testing.T) {
	for what, change := range map[string]func(map[string]string){
		"cut off": func(
			p map[string]string) {
			p["xl/worksheets/sheet1.xml"] = `<worksheet><sheetData><row r="1"><c><v>1`
		},
		"a text that there is not":  func(p map[string]string) { p["xl/sharedStrings.xml"] = `<sst/>` },
		"a row behind a later one":  func(p map[string]string) { p["xl/worksheets/sheet1.xml"] = `<row r="5"></row><row r="2"></row>` },
		"a part that there is not":  func(p map[string]string) { delete(p, "xl/worksheets/sheet1.xml") },
		"a row beyond all of them":  func(p map[string]string) { p["xl/worksheets/sheet1.xml"] = `<row r="99999999"></row>` },
		"shared texts that are cut": func(p map[string]string) { p["xl/sharedStrings.xml"] = `<sst><si><t>x` },
	} {
		parts := workbook(`<row r="1"><c t="s"><v>0</v></c></row>`, "0")
		change(parts)
		b, err := NewBook(archiveOf(t, parts))
		if err != nil {
			t.Fatal(what, err)
		}
		if got, err := rowsOf(t, b.Sheets[0]); err == nil || !strings.Contains(err.Error(), "is no whole workbook") {
			t.Errorf("%s: %q, %v", what, got, err)
		}
	}
	if IsBook(archiveOf(t, map[string]string{"xl/styles.xml": "x"})) {
		t.Error("any archive is a workbook")
	}
}

func TestObjects(t *testing.T) {
	o := NewObjects(strings.NewReader("[\"title\"]\n[\"Sea Area\",\"n\"]\n[\"Cairn \\\"Bay\\\"\",1.50,null]\n[]\n[null,2,true]\n"),
		[]string{"Sea Area", "n"}, 2)
	all, err := io.ReadAll(o)
	if want := "\n\n{\"Sea Area\":\"Cairn \\\"Bay\\\"\",\"n\":1.50}\n\n{\"n\":2,\"c3\":true}\n"; err != nil || string(all) != want {
		t.Errorf("%q, %v, want %q", all, err, want)
	}
}

// FuzzRows checks that whatever a worksheet holds, reading it ends, and that what is read is JSON.
func FuzzRows(f *testing.F) {
	for _, seed := range []string{`<row r="1"><c t="s"><v>0</v></c></row>`, `<row><c r="ZZZ9"><v>1</v></c></row>`,
		`<row r="7"><c s="1"><v>-5</v></c><c t="is"><is><t>x`, `<row r="2"/><row r="3"/>`} {
		f.Add(seed)
	}
	f.Fuzz(func(t *testing.T, rows string) {
		b, err := NewBook(archiveOf(t, workbook(rows, "0")))
		if err != nil {
			return
		}
		got, err := rowsOf(t, b.Sheets[0])
		if err != nil {
			return
		}
		for line := range strings.Lines(got) {
			if !json.Valid([]byte(line)) {
				t.Fatalf("%q is no JSON", line)
			}
		}
	})
}
