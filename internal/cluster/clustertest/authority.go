package clustertest

import (
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"encoding/pem"
	"math/big"
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/cluster/broker"
)

// Authority signs certificates of nodes.
type Authority struct {
	Dir  string // has the files
	File string // of its own certificate
	t    *testing.T
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	ips  []net.IP
}

// NewAuthority returns an authority for nodes at some addresses; without any, on loopback.
func NewAuthority(t *testing.T, ips ...net.IP) *Authority {
	if len(ips) == 0 {
		ips = []net.IP{net.IPv4(127, 0, 0, 1)}
	}
	a := &Authority{t: t, Dir: t.TempDir(), ips: ips}
	var err error
	a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	a.cert = &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "the river watch"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	a.File = a.write("ca.pem", "CERTIFICATE", a.sign(a.cert, &a.key.PublicKey))
	return a
}

func (a *Authority) sign(cert *x509.Certificate, public *ecdsa.PublicKey) []byte {
	text, err := x509.CreateCertificate(rand.Reader, cert, a.cert, public, a.key)
	require.NoError(a.t, err)
	return text
}

func (a *Authority) write(name, kind string, text []byte) string {
	path := filepath.Join(a.Dir, name)
	require.NoError(a.t, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: text}), 0o600))
	return path
}

// Node writes a certificate of a node and its key.
func (a *Authority) Node(name string) (cert, key string) {
	return a.nodeUntil(name, time.Now().Add(time.Hour))
}

func (a *Authority) nodeUntil(name string, until time.Time) (cert, key string) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(a.t, err)
	text, err := x509.MarshalECPrivateKey(private)
	require.NoError(a.t, err)
	is := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: until,
		IPAddresses: a.ips, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	return a.write(name+".pem", "CERTIFICATE", a.sign(is, &private.PublicKey)), a.write(name+".key", "EC PRIVATE KEY", text)
}

// TLS is for a node.
func (a *Authority) TLS(name string) *tls.Config { return a.TLSUntil(name, time.Now().Add(time.Hour)) }

// Client is for connections to a node on loopback.
func (a *Authority) Client(name string) *tls.Config {
	config := a.TLS(name)
	config.ServerName = "127.0.0.1"
	return config
}

// TLSUntil is for a node whose certificate expires.
func (a *Authority) TLSUntil(name string, until time.Time) *tls.Config {
	cert, key := a.nodeUntil(name, until)
	config, err := broker.TLS(cert, key, a.File)
	require.NoError(a.t, err)
	return config
}
