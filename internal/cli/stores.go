package cli

import (
	"cmp"
	"errors"
	"io/fs"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"trevak/internal/config"
	"trevak/internal/fault"
	"trevak/internal/storage"
	"trevak/internal/storage/azure"
	"trevak/internal/storage/gcs"
	"trevak/internal/storage/s3"
	"trevak/internal/storage/vended"
)

// vault holds what catalogs give to reach the files of their tables by.
var vault = &vended.Vault{}

// stores are where everything lies that has a path.
var stores = storesWith(0)

// uploadMemory is how many bytes of uploads to the stores of one protocol wait in memory, 0 for the usual.
var uploadMemory int64

// storesWith are the stores whose servers are given so much time, 0 for the usual.
func storesWith(patience time.Duration) storage.Stores {
	all := storage.Standard(storage.Web{Patience: patience})
	all["s3"] = s3.New(s3.Options{Of: reachedBy, Vault: vault, Patience: patience, Memory: uploadMemory})
	all[gcs.Scheme] = gcs.New(gcs.Options{Of: googleBy, Vault: vault, Patience: patience, Memory: uploadMemory})
	blobs := azure.New(azure.Options{Of: azureBy, Env: os.Getenv, Vault: vault, Patience: patience, Memory: uploadMemory})
	for _, scheme := range azure.Schemes {
		all[scheme] = blobs
	}
	return all
}

// described is what trevak.yaml says of the store of a URI, nothing where it does not.
func described(uri string) (config.Store, error) {
	c, err := configured()
	if err != nil {
		return config.Store{}, err
	}
	s, _ := c.StoreOf(uri)
	return s, nil
}

// reachedBy tells how a store of the S3 protocol is reached: as trevak.yaml says, or else as the environment does.
func reachedBy(uri string) (s3.Settings, error) {
	s, err := described(uri)
	if err != nil {
		return s3.Settings{}, err
	}
	out := s3.Settings{Endpoint: s.Endpoint, Region: s.Region, PathStyle: s.PathStyle, Profile: s.Profile, Anonymous: s.Anonymous,
		Proxy: s.Proxy, CA: s.CA}
	if out.Endpoint == "" {
		out.Endpoint = cmp.Or(os.Getenv("AWS_ENDPOINT_URL_S3"), os.Getenv("AWS_ENDPOINT_URL"))
		// What is not Amazon's seldom has a name for each bucket.
		out.PathStyle = out.PathStyle || out.Endpoint != ""
	}
	out.Region = cmp.Or(out.Region, os.Getenv("AWS_REGION"), os.Getenv("AWS_DEFAULT_REGION"))
	out.CA = cmp.Or(out.CA, os.Getenv("AWS_CA_BUNDLE"))
	return out, nil
}

// googleBy is reachedBy for stores of Google Cloud Storage.
func googleBy(uri string) (gcs.Settings, error) {
	s, err := described(uri)
	out := gcs.Settings{Endpoint: s.Endpoint, Anonymous: s.Anonymous, Proxy: s.Proxy, CA: s.CA,
		FromFile: os.Getenv("GOOGLE_APPLICATION_CREDENTIALS") != ""}
	// By this name servers for tests are known, which ask for no token.
	if stated := os.Getenv("STORAGE_EMULATOR_HOST"); out.Endpoint == "" && stated != "" {
		if out.Endpoint, out.Anonymous = stated, true; !strings.Contains(stated, "://") {
			out.Endpoint = "http://" + stated
		}
	}
	return out, err
}

// azureBy is reachedBy for stores of Azure Blob Storage.
func azureBy(uri string) (azure.Settings, error) {
	s, err := described(uri)
	return azure.Settings{Endpoint: s.Endpoint, PathStyle: s.PathStyle, Anonymous: s.Anonymous, Proxy: s.Proxy, CA: s.CA}, err
}

// configured is what trevak.yaml says, which is looked for in the current folder and those above it, then in the user's folder of
// configuration. Without one it says nothing.
var configured = sync.OnceValues(func() (*config.Config, error) {
	path, err := configFile()
	if err != nil || path == "" {
		return &config.Config{}, err
	}
	text, err := os.ReadFile(path)
	if err != nil {
		return nil, fault.Wrap(fault.Usage, err, "%s cannot be read", path)
	}
	return config.Parse(text, path)
})

// configFile returns the path of the file that counts, empty for none.
func configFile() (string, error) {
	folder, err := os.Getwd()
	if err != nil {
		return "", fault.Wrap(fault.Storage, err, "the current folder cannot be told")
	}
	for {
		path := filepath.Join(folder, config.File)
		if _, err := os.Stat(path); err == nil {
			return path, nil
		} else if !errors.Is(err, fs.ErrNotExist) {
			return "", fault.Wrap(fault.Usage, err, "%s cannot be read", path)
		}
		up := filepath.Dir(folder)
		if up == folder {
			break
		}
		folder = up
	}
	user, err := os.UserConfigDir()
	if err != nil {
		return "", nil
	}
	path := filepath.Join(user, "trevak", config.File)
	if _, err := os.Stat(path); err != nil {
		return "", nil
	}
	return path, nil
}
