module github.com/RoaringBitmap/roaring/v2

go 1.26
