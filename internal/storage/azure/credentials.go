package azure

import (
	"strings"

	"github.com/Azure/azure-sdk-for-go/sdk/azidentity"
	"github.com/Azure/azure-sdk-for-go/sdk/storage/azblob/container"
)

// credentials are what requests are signed with.
type credentials struct {
	// kind says in words what they are; endpoint is the server that came with them, empty for none.
	kind, endpoint string
	// key or signature is the secret; without either, the platform is asked for a token unless nothing is to be signed.
	key, signature string
	account        string
	anonymous      bool
}

// credentialsFor looks for what an account is asked with: a connection string, a key or a shared access signature in the environment,
// and then what the platform's own chain has: a service principal in the environment, the identity of the machine, or the login of
// the cloud's command line.
func credentialsFor(of named, env func(name string) string) credentials {
	c := credentials{account: of.account}
	if of.given != "" {
		c.kind, c.signature = "signed by the shared access signature that the catalog gave", of.given
		return c
	}
	if of.Anonymous {
		c.kind, c.anonymous = "not signed, as is stated for it", true
		return c
	}
	said := connection(env("AZURE_STORAGE_CONNECTION_STRING"))
	if said["AccountName"] == of.account || said["AccountName"] == "" && strings.Contains(said["BlobEndpoint"], of.account) {
		c.endpoint, c.key, c.signature = said["BlobEndpoint"], said["AccountKey"], said["SharedAccessSignature"]
		c.kind = "signed by the connection string of the environment"
	}
	if stated := env("AZURE_STORAGE_ACCOUNT"); c.key == "" && c.signature == "" && (stated == "" || stated == of.account) {
		c.key, c.signature = env("AZURE_STORAGE_KEY"), env("AZURE_STORAGE_SAS_TOKEN")
		switch {
		case c.key != "":
			c.kind = "signed with the account's key in the environment"
		case c.signature != "":
			c.kind = "signed by the shared access signature in the environment"
		}
	}
	if c.key == "" && c.signature == "" {
		c.kind = "signed by the platform's chain: there is no key, signature or connection string for the account in the environment"
	}
	return c
}

// connection takes a connection string apart.
func connection(text string) map[string]string {
	out := map[string]string{}
	for part := range strings.SplitSeq(text, ";") {
		if name, value, ok := strings.Cut(part, "="); ok {
			out[strings.TrimSpace(name)] = strings.TrimSpace(value)
		}
	}
	return out
}

// client makes what sends requests to a container.
func (c credentials) client(place string, o *container.ClientOptions) (*container.Client, error) {
	switch {
	case c.anonymous:
		return container.NewClientWithNoCredential(place, o)
	case c.key != "":
		key, err := container.NewSharedKeyCredential(c.account, c.key)
		if err != nil {
			return nil, err
		}
		return container.NewClientWithSharedKeyCredential(place, key, o)
	case c.signature != "":
		return container.NewClientWithNoCredential(place+"?"+strings.TrimPrefix(c.signature, "?"), o)
	}
	token, err := azidentity.NewDefaultAzureCredential(&azidentity.DefaultAzureCredentialOptions{ClientOptions: o.ClientOptions})
	if err != nil {
		return nil, err
	}
	return container.NewClient(place, token, o)
}
