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

	"tovik.example/tovik/internal/cluster"
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
	private, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(a.t, err)
	text, err := x509.MarshalECPrivateKey(private)
	require.NoError(a.t, err)
	is := &x509.Certificate{SerialNumber: big.NewInt(time.Now().UnixNano()), Subject: pkix.Name{CommonName: name}, NotBefore: time.Now().Add(-time.Hour), NotAfter: time.Now().Add(time.Hour),
		IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}, ExtKeyUsage: []x509.ExtKeyUsage{x509.ExtKeyUsageServerAuth, x509.ExtKeyUsageClientAuth}}
	return a.write(name+".pem", "CERTIFICATE", a.sign(is, &private.PublicKey)), a.write(name+".key", "EC PRIVATE KEY", text)
}

func (a *authority) tls(name string) *tls.Config {
	cert, key := a.node(name)
	config, err := broker.TLS(cert, key, a.file)
	require.NoError(a.t, err)
	return config
}

// TestOnlyNodesWithACertificateAreLetIn has two nodes, and others who would like to be one: with a certificate
// of another authority, without one, with another password, and with another name of the cluster.
func TestOnlyNodesWithACertificateAreLetIn(t *testing.T) {
	ours, theirs := newAuthority(t), newAuthority(t)
	addresses := clustertest.FreeAddresses(t, 2)
	const password = "the routes of one test"
	start := func(name cluster.Name, listen, peer, cluster, password string, config *tls.Config) *broker.Server {
		s, err := broker.StartServer(broker.ServerOptions{Cluster: cluster, Node: name, Dir: t.TempDir(), Listen: listen, Peers: []string{peer}, Password: password, TLS: config})
		require.NoError(t, err)
		t.Cleanup(s.Stop)
		return s
	}
	dipper := start("dipper", addresses[0], addresses[1], "aldermoor", password, ours.tls("dipper"))
	heron := start("heron", addresses[1], addresses[0], "aldermoor", password, ours.tls("heron"))
	require.Eventually(t, func() bool { return dipper.Nodes() == 1 && heron.Nodes() == 1 }, time.Minute, 10*time.Millisecond)
	strangers := map[string]*broker.Server{}
	for name, s := range map[string]*broker.Server{
		"another authority": start("kestrel", "127.0.0.1:0", addresses[0], "aldermoor", password, theirs.tls("kestrel")),
		"no certificate":    start("plover", "127.0.0.1:0", addresses[0], "aldermoor", password, nil),
		"another password":  start("wagtail", "127.0.0.1:0", addresses[0], "aldermoor", "a guess of a stranger", ours.tls("wagtail")),
		"another cluster":   start("merlin", "127.0.0.1:0", addresses[0], "millwater", password, ours.tls("merlin")),
	} {
		strangers[name] = s
	}
	require.Never(t, func() bool {
		for _, s := range strangers {
			if s.Nodes() > 0 {
				return true
			}
		}
		return dipper.Nodes() > 1
	}, 2*time.Second, 20*time.Millisecond)

	// A client of the right password is let in nowhere: there is no door for clients.
	conn, err := net.Dial("tcp", addresses[0])
	require.NoError(t, err)
	t.Cleanup(func() { _ = conn.Close() })
	_, err = conn.Write([]byte("CONNECT {\"user\":\"route\",\"pass\":\"" + password + "\"}\r\nPUB aldermoor.log.all 2\r\nhi\r\n"))
	require.NoError(t, err)
	require.NoError(t, conn.SetReadDeadline(time.Now().Add(time.Minute)))
	for buffer := make([]byte, 4096); err == nil; {
		var n int
		n, err = conn.Read(buffer)
		require.NotContains(t, string(buffer[:n]), "+OK")
	}

	// A certificate is replaced while the node runs.
	ours.node("heron")
	_, err = broker.TLS(filepath.Join(ours.dir, "heron.pem"), filepath.Join(ours.dir, "dipper.key"), ours.file)
	require.ErrorContains(t, err, "cannot be used")
	_, err = broker.StartServer(broker.ServerOptions{Cluster: "aldermoor", Node: "plover", Dir: t.TempDir(), Listen: "0.0.0.0:0", Password: password})
	require.ErrorContains(t, err, "loopback")
}

// TestTheBrokerApartIsReachedOverTLS has a broker that wants certificates of both sides.
func TestTheBrokerApartIsReachedOverTLS(t *testing.T) {
	ours, theirs := newAuthority(t), newAuthority(t)
	address := "tls://" + clustertest.User + ":" + clustertest.Password + "@" + clustertest.StartBroker(t, "aldermoor", func(o *server.Options) {
		o.TLSConfig, o.TLSVerify, o.TLSTimeout = ours.tls("broker"), true, 5
	})
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
