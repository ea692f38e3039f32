package remote

import (
	"crypto/tls"
	"crypto/x509"
	"net"
	"net/http"
	"net/url"
	"os"
	"time"

	"trevak/internal/fault"
	"trevak/internal/storage"
)

// Way is how servers are reached.
type Way struct {
	// Proxy is the URL of a proxy, empty for that of the environment.
	Proxy string
	// CA is a file of certificates, in PEM, that are trusted besides the system's.
	CA string
	// Patience is how long a server may be silent.
	Patience time.Duration
}

// Transport is what requests go out by.
func (w Way) Transport() (*http.Transport, error) {
	patience := w.Patience
	if patience <= 0 {
		patience = storage.DefaultPatience
	}
	t := &http.Transport{Proxy: http.ProxyFromEnvironment, MaxIdleConnsPerHost: mostRequests, MaxIdleConns: 2 * mostRequests,
		IdleConnTimeout: time.Minute, TLSHandshakeTimeout: patience, ResponseHeaderTimeout: patience,
		ExpectContinueTimeout: time.Second, DisableCompression: true,
		DialContext: (&net.Dialer{Timeout: patience, KeepAlive: 15 * time.Second}).DialContext}
	if w.Proxy != "" {
		proxy, err := url.Parse(w.Proxy)
		if err != nil || proxy.Host == "" {
			return nil, fault.New(fault.Usage, "%q is no address of a proxy", storage.Shown(w.Proxy)).
				Try("write it like http://proxy.example:3128")
		}
		t.Proxy = http.ProxyURL(proxy)
	}
	if w.CA != "" {
		pem, err := os.ReadFile(w.CA)
		if err != nil {
			return nil, fault.Wrap(fault.Usage, err, "the certificates of %s cannot be read", w.CA)
		}
		pool, err := x509.SystemCertPool()
		if err != nil {
			pool = x509.NewCertPool()
		}
		if !pool.AppendCertsFromPEM(pem) {
			return nil, fault.New(fault.Usage, "%s holds no certificate in PEM", w.CA).
				Try("name the file of the authority's certificate")
		}
		t.TLSClientConfig = &tls.Config{RootCAs: pool}
	}
	return t, nil
}
