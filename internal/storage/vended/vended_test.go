package vended

import (
	"context"
	"fmt"
	"testing"
	"time"
)

func TestTheLongestPrefixCounts(t *testing.T) {
	var v Vault
	v.Put("s3://orrin/wh", map[string]string{"s3.access-key-id": "wide"}, nil)
	v.Put("s3://orrin/wh/ops/waves", map[string]string{"s3.access-key-id": "narrow", "owner": "harbour"}, nil)
	v.Put("s3://orrin/wh/ops/tides", map[string]string{"owner": "harbour"}, nil)
	for uri, want := range map[string]string{"s3://orrin/wh/ops/waves/data/a": "narrow", "s3://orrin/wh/ops/tides/data/a": "wide", "s3://orrin/raw": ""} {
		g, ok := v.For(uri)
		if got := g.Properties["s3.access-key-id"]; got != want || ok != (want != "") {
			t.Errorf("%s: %q, %v", uri, got, ok)
		}
		if g.Properties["owner"] != "" {
			t.Error("what says nothing of files is kept")
		}
	}
}

// TestGrantsAreRenewed has a grant end.
func TestGrantsAreRenewed(t *testing.T) {
	var v Vault
	asked := 0
	var give func(left time.Duration)
	give = func(left time.Duration) {
		v.Put("s3://orrin", map[string]string{"s3.access-key-id": fmt.Sprint(asked),
			"s3.session-token-expires-at-ms": fmt.Sprint(time.Now().Add(left).UnixMilli())}, func(context.Context) error {
			asked++
			give(time.Hour)
			return nil
		})
	}
	give(time.Second)
	for range 3 {
		if g, ok := v.For("s3://orrin/a"); !ok || g.Properties["s3.access-key-id"] != "1" {
			t.Errorf("%+v", g)
		}
	}
	if asked != 1 {
		t.Errorf("the catalog was asked %d times", asked)
	}
}
