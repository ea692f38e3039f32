package xml_test

import (
	"fmt"
	"io"
	"strings"

	"trevak/internal/parse/xml"
)

func Example() {
	const document = `<log><entry id="1"><tag>a</tag><tag>b</tag></entry><entry id="2"><tag>c</tag></entry></log>`
	survey, err := xml.Look(strings.NewReader(document), xml.Options{})
	if err != nil {
		fmt.Println(err)
		return
	}
	choice, _ := survey.Choose()
	text, _ := io.ReadAll(xml.NewReader(strings.NewReader(document), survey.Shape(choice.Records)))
	fmt.Println(choice.Records, strings.Join(strings.Fields(string(text)), " "))
	// Output: [log/entry] {"id":1,"tag":["a","b"]} {"id":2,"tag":["c"]}
}
