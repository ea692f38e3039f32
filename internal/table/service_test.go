package table

import (
	"fmt"
	"net/http"
	"net/http/httptest"
	"strings"
	"testing"

	"trevak/internal/storage"
)

// TestRefusalsNameRights asks a service that lets nobody do anything.
func TestRefusalsNameRights(t *testing.T) {
	server := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		w.Header().Set("Content-Type", "application/json")
		if strings.HasSuffix(r.URL.Path, "/config") {
			fmt.Fprint(w, `{"defaults":{},"overrides":{}}`)
			return
		}
		w.WriteHeader(http.StatusForbidden)
		fmt.Fprint(w, `{"error":{"message":"Principal anna may not","type":"ForbiddenException","code":403}}`)
	}))
	defer server.Close()
	w, err := OpenService(t.Context(), storage.NewMemory(), Service{Name: "office", URI: server.URL, Location: "memory://orrin/wh"})
	if err != nil {
		t.Fatal(err)
	}
	name, err := ParseName("ops.waves")
	if err != nil {
		t.Fatal(err)
	}
	ctx := t.Context()
	_, read := w.Load(ctx, name)
	_, list := w.Names(ctx)
	_, made := w.CreateNamespace(ctx, "ops")
	for right, err := range map[string]error{"read the table ops.waves": read, "list namespaces": list, "": made,
		"drop the table ops.waves": w.keeper.drop(ctx, name),
		"make the namespace ops":   w.keeper.makeNamespace(ctx, []string{"ops"})} {
		if err == nil || !strings.Contains(err.Error(), right) || !strings.Contains(err.Error(), "Principal anna may not") {
			t.Errorf("%s: %v", right, err)
		}
	}
}
