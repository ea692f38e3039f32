module github.com/goccy/go-json

go 1.26
