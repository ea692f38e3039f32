package azure

import (
	"context"
	"errors"
	"fmt"
	"os"
	"strings"
	"testing"
	"time"

	"trevak/internal/fault"
	"trevak/internal/storage"
	"trevak/internal/storage/remote"
	"trevak/internal/storage/storagetest"
)

// served returns the stores of a server that stands in for the service, whose address the environment names; test/away/servers starts
// one. Without it the test is skipped.
func served(t *testing.T) storage.Stores {
	t.Helper()
	address := os.Getenv("TREVAK_TEST_AZURE")
	if address == "" {
		t.Skip("TREVAK_TEST_AZURE names no server; test/away/servers starts one")
	}
	t.Setenv("AZURE_STORAGE_ACCOUNT", "devstoreaccount1")
	// The key is public: it is the one that all servers for tests have.
	t.Setenv("AZURE_STORAGE_KEY",
		"Eby8vdM02xNOcqFlqUwJPLlmEtlCDXJ1OUzFT50uSRZ6IFsuFq2UVErCz4I6tq/K1SZFPTOtr/KBHBeksoGMGw==")
	s := New(Options{Patience: 5 * time.Second, Env: os.Getenv, Of: func(string) (Settings, error) {
		return Settings{Endpoint: address, PathStyle: true}, nil
	}})
	return storage.Stores{"az": s, "abfss": s}
}

// home makes a container and returns a folder in it.
func home(t *testing.T) string {
	t.Helper()
	name := fmt.Sprintf("harbour-%d", time.Now().UnixNano())
	found := credentialsFor(named{account: "devstoreaccount1"}, os.Getenv)
	client, err := found.client(os.Getenv("TREVAK_TEST_AZURE")+"/devstoreaccount1/"+name, nil)
	if err != nil {
		t.Fatal(err)
	}
	if _, err := client.Create(t.Context(), nil); err != nil {
		t.Fatal(err)
	}
	return "az://devstoreaccount1/" + name + "/a"
}

func TestStoreKeepsPromises(t *testing.T) {
	s := served(t)
	storagetest.Hold(t, s, home(t))
	storagetest.Large(t, s, home(t))
}

func TestFaultsOfAServer(t *testing.T) {
	s := served(t)
	_, err := s.Stat(t.Context(), "az://devstoreaccount1/nowhere/a.csv")
	if err == nil || !strings.Contains(err.Error(), "there is no container nowhere in account devstoreaccount1") {
		t.Errorf("%v", err)
	}
	there := home(t)
	t.Setenv("AZURE_STORAGE_KEY", "bm90IHRoZSBrZXk=")
	wrong := New(Options{Env: os.Getenv, Of: func(string) (Settings, error) {
		return Settings{Endpoint: os.Getenv("TREVAK_TEST_AZURE"), PathStyle: true}, nil
	}})
	_, err = wrong.Stat(t.Context(), there+"/a.csv")
	if err == nil || !strings.Contains(err.Error(), "key in the environment") || strings.Contains(err.Error(), "bm90") {
		t.Errorf("%v", err)
	}
}

func TestParse(t *testing.T) {
	for uri, want := range map[string]string{
		"az://harbour/raw/2031/a.csv":                         "az://harbour/raw harbour raw 2031/a.csv",
		"az://harbour/raw":                                    "az://harbour/raw harbour raw ",
		"abfss://raw@harbour.dfs.core.windows.net/2031/a.csv": "abfss://raw@harbour.dfs.core.windows.net harbour raw 2031/a.csv",
		"az://harbour":                                        "",
		"az://Harbour/raw/a.csv":                              "",
		"abfss://harbour.dfs.core.windows.net/a.csv":          "",
	} {
		base, account, name, key, err := parse(uri)
		got := strings.Join([]string{base, account, name, key}, " ")
		if err != nil {
			got = ""
		}
		if got != want || (err == nil) != (want != "") {
			t.Errorf("%s: %q, %v", uri, got, err)
		}
	}
}

func TestWhoAsks(t *testing.T) {
	for _, name := range []string{"AZURE_STORAGE_CONNECTION_STRING", "AZURE_STORAGE_ACCOUNT", "AZURE_STORAGE_KEY", "AZURE_STORAGE_SAS_TOKEN"} {
		t.Setenv(name, "")
	}
	kind := func(account string) string { return credentialsFor(named{account: account}, os.Getenv).kind }
	if got := kind("harbour"); !strings.HasPrefix(got, "signed by the platform's chain") {
		t.Error(got)
	}
	t.Setenv("AZURE_STORAGE_SAS_TOKEN", "?sv=1&sig=x")
	if got := kind("harbour"); !strings.HasSuffix(got, "signature in the environment") {
		t.Error(got)
	}
	t.Setenv("AZURE_STORAGE_ACCOUNT", "other")
	if got := kind("harbour"); !strings.HasPrefix(got, "signed by the platform's chain") {
		t.Errorf("the signature of another account: %s", got)
	}
	t.Setenv("AZURE_STORAGE_CONNECTION_STRING", "AccountName=harbour;AccountKey=eA==;BlobEndpoint=http://127.0.0.1:1/harbour")
	if c := credentialsFor(named{account: "harbour"}, os.Getenv); c.endpoint != "http://127.0.0.1:1/harbour" || c.key != "eA==" {
		t.Errorf("%+v", c)
	}
}

// TestNobodyThere asks a server that is none.
func TestNobodyThere(t *testing.T) {
	b := bucket{base: "az://harbour/raw", server: "http://127.0.0.1:1/harbour/raw"}
	err := b.Explain("a.csv", remote.Read, errors.New("dial tcp: refused"))
	if fault.KindOf(err) != fault.Storage || !strings.Contains(err.Error(), "http://127.0.0.1:1") {
		t.Errorf("%v", err)
	}
	if err := b.Explain("a.csv", remote.Read, context.Canceled); !errors.Is(err, context.Canceled) {
		t.Errorf("%v", err)
	}
}
