package orc_test

import (
	"bytes"
	"context"
	"fmt"

	"github.com/apache/arrow-go/v18/arrow"
	"github.com/apache/arrow-go/v18/arrow/array"
	"github.com/apache/arrow-go/v18/arrow/memory"

	"trevak/internal/columnar/orc"
	"trevak/internal/schema"
)

func Example() {
	s := schema.Schema{Fields: []schema.Field{{Name: "depth", Type: schema.Type{Kind: schema.Double}}}}
	s.AssignIDs()
	build := array.NewRecordBuilder(memory.DefaultAllocator, s.Arrow())
	build.Field(0).(*array.Float64Builder).AppendValues([]float64{1.5, 0}, []bool{true, false})
	var file bytes.Buffer
	w, err := orc.NewWriter(&file, s, orc.Options{Codec: "zstd", StripeRows: 1000, StripeBytes: 1 << 20})
	if err != nil {
		fmt.Println(err)
		return
	}
	_ = w.Write(context.Background(), build.NewRecordBatch())
	rows, _ := w.Close()
	fmt.Println(rows, "rows")
	f, err := orc.Open(bytes.NewReader(file.Bytes()), int64(file.Len()))
	if err != nil {
		fmt.Println(err)
		return
	}
	_ = f.Batches(context.Background(), func(b arrow.RecordBatch) error {
		fmt.Println(b.Column(0))
		return nil
	})
	// Output:
	// 2 rows
	// [1.5 (null)]
}
