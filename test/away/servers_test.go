package away

import (
	"fmt"
	"net/http"
	"net/url"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/container"
	"github.com/minio/minio-go/v7"
	"github.com/minio/minio-go/v7/pkg/credentials"

	"trevak/internal/testfolder"
)

// account is the name and the key that all servers for tests of Azure's protocol have.
const (
	account    = "devstoreaccount1"
	accountKey = "Eby8vdM02xNOcqFlqUwJPLlmEtlCDXJ1OUzFT50uSRZ6IFsuFq2UVErCz4I6tq/K1SZFPTOtr/KBHBeksoGMGw=="
)

// servers make a bucket in the server at an address and return what its URIs begin with; each is named by a variable of the
// environment that test/away/servers sets.
var servers = map[string]func(t *testing.T, address, name string) string{
	"TREVAK_TEST_S3": func(t *testing.T, address, name string) string {
		t.Setenv("AWS_ENDPOINT_URL", address)
		t.Setenv("AWS_REGION", "us-east-1")
		t.Setenv("AWS_ACCESS_KEY_ID", "buoy")
		t.Setenv("AWS_SECRET_ACCESS_KEY", "buoysecret")
		u, err := url.Parse(address)
		if err != nil {
			t.Fatal(err)
		}
		client, err := minio.New(u.Host, &minio.Options{Creds: credentials.NewStaticV4("buoy", "buoysecret", ""), Region: "us-east-1"})
		if err == nil {
			err = client.MakeBucket(t.Context(), name, minio.MakeBucketOptions{})
		}
		if err != nil {
			t.Fatal(err)
		}
		return "s3://" + name
	},
	"TREVAK_TEST_AZURE": func(t *testing.T, address, name string) string {
		t.Setenv("AZURE_STORAGE_ACCOUNT", account)
		t.Setenv("AZURE_STORAGE_KEY", accountKey)
		described(t, "az://"+account, address, "    path_style: true\n")
		key, err := container.NewSharedKeyCredential(account, accountKey)
		if err != nil {
			t.Fatal(err)
		}
		client, err := container.NewClientWithSharedKeyCredential(address+"/"+account+"/"+name, key, nil)
		if err == nil {
			_, err = client.Create(t.Context(), nil)
		}
		if err != nil {
			t.Fatal(err)
		}
		return "az://" + account + "/" + name
	},
	"TREVAK_TEST_GCS": func(t *testing.T, address, name string) string {
		described(t, "gs://", address, "    anonymous: true\n")
		made, err := http.Post(address+"/storage/v1/b?project=orrin", "application/json", strings.NewReader(`{"name":"`+name+`"}`))
		if err != nil || made.StatusCode != http.StatusOK {
			t.Fatal(made, err)
		}
		made.Body.Close()
		return "gs://" + name
	},
}

// described describes a store in trevak.yaml.
func described(t *testing.T, of, address, more string) {
	t.Helper()
	config := "stores:\n  harbour:\n    for: " + of + "\n    endpoint: " + address + "\n" + more
	if err := os.WriteFile("trevak.yaml", []byte(config), 0o666); err != nil {
		t.Fatal(err)
	}
}

// TestTheDayOnServers does the work of a day in the stores of servers that stand in for those of clouds, or are some.
func TestTheDayOnServers(t *testing.T) {
	for variable, begin := range servers {
		t.Run(variable, func(t *testing.T) {
			address := os.Getenv(variable)
			if address == "" {
				t.Skipf("%s names no server; test/away/servers starts one", variable)
			}
			testfolder.Make(t, stationDay)
			base := begin(t, address, fmt.Sprintf("harbour-%d", time.Now().UnixNano()))
			dayInAStore(t, base)
			manyLoad(t, "-w", base+"/raced")
		})
	}
}
