module github.com/substrait-io/substrait

go 1.26
