package broker

import (
	"crypto/tls"
	"crypto/x509"
	"errors"
	"fmt"
	"os"
)

// TLS returns how nodes prove to each other who they are: both sides show certificates that one of ca has
// signed. The certificate is read again for each connection, so that it can be replaced while nodes run; a
// file that cannot be read ends the attempt. For an external broker, both may be left out: without cert
// the node shows no certificate, and without ca it trusts the authorities that the system trusts.
func TLS(cert, key, ca string) (*tls.Config, error) {
	var pool *x509.CertPool
	if ca != "" {
		text, err := os.ReadFile(ca)
		if err != nil {
			return nil, err
		}
		pool = x509.NewCertPool()
		if !pool.AppendCertsFromPEM(text) {
			return nil, fmt.Errorf("%s has no certificate in PEM", ca)
		}
	}
	if cert == "" {
		return &tls.Config{MinVersion: tls.VersionTLS13, RootCAs: pool}, nil
	}
	pair := func() (*tls.Certificate, error) {
		is, err := tls.LoadX509KeyPair(cert, key)
		if err != nil {
			return nil, fmt.Errorf("the certificate %s with the key %s cannot be used: %w", cert, key, err)
		}
		return &is, nil
	}
	first, err := pair()
	if err != nil {
		return nil, err
	}
	if first.Leaf == nil {
		return nil, errors.New(cert + " has no certificate")
	}
	return &tls.Config{
		MinVersion: tls.VersionTLS13, RootCAs: pool, ClientCAs: pool, ClientAuth: tls.RequireAndVerifyClientCert,
		GetCertificate:       func(*tls.ClientHelloInfo) (*tls.Certificate, error) { return pair() },
		GetClientCertificate: func(*tls.CertificateRequestInfo) (*tls.Certificate, error) { return pair() },
	}, nil
}
