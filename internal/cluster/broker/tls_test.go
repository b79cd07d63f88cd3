package broker_test

import (
	"context"
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

	"github.com/nats-io/nats-server/v2/server"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/cluster/broker"
	"tovik.example/tovik/internal/cluster/clustertest"
)

// authority signs certificates of nodes.
type authority struct {
	t    *testing.T
	dir  string
	cert *x509.Certificate
	key  *ecdsa.PrivateKey
	file string
}

func newAuthority(t *testing.T) *authority {
	a := &authority{t: t, dir: t.TempDir()}
	var err error
	a.key, err = ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	a.cert = &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "the river watch"}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IsCA: true, BasicConstraintsValid: true, KeyUsage: x509.KeyUsageCertSign}
	a.file = a.write("ca.pem", "CERTIFICATE", a.sign(a.cert, &a.key.PublicKey))
	return a
}

func (a *authority) sign(cert *x509.Certificate, public *ecdsa.PublicKey) []byte {
	text, err := x509.CreateCertificate(rand.Reader, cert, a.cert, public, a.key)
	require.NoError(a.t, err)
	return text
}

func (a *authority) write(name, kind string, text []byte) string {
	path := filepath.Join(a.dir, name)
	require.NoError(a.t, os.WriteFile(path, pem.EncodeToMemory(&pem.Block{Type: kind, Bytes: text}), 0o600))
	return path
}

// node writes a certificate of a node and its key.
func (a *authority) node(name string) (cert, key string) {
	return a.nodeUntil(name, time.Now().Add(time.Hour))
}

func (a *authority) nodeUntil(name string, until time.Time) (cert, key string) {
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(a.t, err)
	text, err := x509.MarshalECPrivateKey(private)
	require.NoError(a.t, err)
	is := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: until,
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	return a.write(name+".pem", "CERTIFICATE", a.sign(is, &private.PublicKey)), a.write(name+".key", "EC PRIVATE KEY", text)
}

func (a *authority) tls(name string) *tls.Config { return a.tlsUntil(name, time.Now().Add(time.Hour)) }

// client is for connections to a node on loopback.
func (a *authority) client(name string) *tls.Config {
	config := a.tls(name)
	config.ServerName = "127.0.0.1"
	return config
}

func (a *authority) tlsUntil(name string, until time.Time) *tls.Config {
	cert, key := a.nodeUntil(name, until)
	config, err := broker.TLS(cert, key, a.file)
	require.NoError(a.t, err)
	return config
}

// TestCertificatesAreReplacedWhileNodesRun writes another certificate into the file of a node.
func TestCertificatesAreReplacedWhileNodesRun(t *testing.T) {
	t.Parallel()
	ours := newAuthority(t)
	d := &door{t: t, ours: ours, address: clustertest.FreeAddresses(t, 1)[0]}
	dipper, err := broker.StartServer(broker.ServerOptions{Cluster: "aldermoor", Node: "dipper", Dir: t.TempDir(), Listen: d.address, Peers: []string{"127.0.0.1:1"}, Password: "the routes of one test", TLS: ours.tls("dipper")})
	require.NoError(t, err)
	t.Cleanup(dipper.Stop)
	shown := func() *big.Int {
		conn, err := d.dial(ours.client("heron"))
		require.NoError(t, err)
		return conn.(*tls.Conn).ConnectionState().PeerCertificates[0].SerialNumber
	}
	first := shown()
	require.Equal(t, first, shown())
	ours.node("dipper")
	require.NotEqual(t, first, shown())

	_, err = broker.TLS(filepath.Join(ours.dir, "heron.pem"), filepath.Join(ours.dir, "dipper.key"), ours.file)
	require.ErrorContains(t, err, "cannot be used")
	_, err = broker.StartServer(broker.ServerOptions{Cluster: "aldermoor", Node: "plover", Dir: t.TempDir(), Listen: "0.0.0.0:0", Password: "the routes of one test"})
	require.ErrorContains(t, err, "loopback")
}

// TestAnExternalBrokerIsReachedOverTLS has an external broker that demands a certificate.
func TestAnExternalBrokerIsReachedOverTLS(t *testing.T) {
	t.Parallel()
	ours, theirs := newAuthority(t), newAuthority(t)
	address := "tls://" + clustertest.User + ":" + clustertest.Password + "@" + clustertest.StartBroker(t, "aldermoor", func(o *server.Options) {
		o.TLSConfig, o.TLSVerify, o.TLSTimeout = ours.tls("broker"), true, 5
	}).Addr().String()
	open := func(config *tls.Config) error {
		conn, err := broker.Dial(address, "", config)
		if err != nil {
			return err
		}
		defer conn.Close()
		ctx, cancel := context.WithTimeout(t.Context(), 2*time.Second)
		defer cancel()
		_, err = broker.Open(ctx, broker.Options{Conn: conn, Cluster: "aldermoor", Node: "dipper", Identity: "the log of one test"})
		return err
	}
	withoutOne, err := broker.TLS("", "", ours.file)
	require.NoError(t, err)
	require.NoError(t, open(ours.tls("dipper")))
	require.Error(t, open(withoutOne), "the node shows no certificate")
	require.Error(t, open(theirs.tls("kestrel")), "it is one of another authority")
	require.Error(t, open(nil), "the broker's is one that the system does not trust")
}
