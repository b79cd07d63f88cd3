package broker_test

import (
	"context"
	"crypto/tls"
	"math/big"
	"path/filepath"
	"testing"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/cluster/broker"
	"tovik.example/tovik/internal/cluster/clustertest"
)

// TestCertificatesAreReplacedWhileNodesRun writes another certificate into the file of a node.
func TestCertificatesAreReplacedWhileNodesRun(t *testing.T) {
	t.Parallel()
	ours := clustertest.NewAuthority(t)
	d := &door{t: t, ours: ours, address: clustertest.FreeAddresses(t, 1)[0]}
	dipper, err := broker.StartServer(broker.ServerOptions{Cluster: "aldermoor", Node: "dipper", Dir: t.TempDir(), Listen: d.address, Peers: []string{"127.0.0.1:1"}, Password: "the routes of one test", TLS: ours.TLS("dipper")})
	require.NoError(t, err)
	t.Cleanup(dipper.Stop)
	shown := func() *big.Int {
		conn, err := d.dial(ours.Client("heron"))
		require.NoError(t, err)
		return conn.(*tls.Conn).ConnectionState().PeerCertificates[0].SerialNumber
	}
	first := shown()
	require.Equal(t, first, shown())
	ours.Node("dipper")
	require.NotEqual(t, first, shown())

	_, err = broker.TLS(filepath.Join(ours.Dir, "heron.pem"), filepath.Join(ours.Dir, "dipper.key"), ours.File)
	require.ErrorContains(t, err, "cannot be used")
	_, err = broker.StartServer(broker.ServerOptions{Cluster: "aldermoor", Node: "plover", Dir: t.TempDir(), Listen: "0.0.0.0:0", Password: "the routes of one test"})
	require.ErrorContains(t, err, "loopback")
}

// TestAnExternalBrokerIsReachedOverTLS has an external broker that demands a certificate.
func TestAnExternalBrokerIsReachedOverTLS(t *testing.T) {
	t.Parallel()
	ours, theirs := clustertest.NewAuthority(t), clustertest.NewAuthority(t)
	address := "tls://" + clustertest.User + ":" + clustertest.Password + "@" + clustertest.StartBroker(t, "aldermoor", func(o *server.Options) {
		o.TLSConfig, o.TLSVerify, o.TLSTimeout = ours.TLS("broker"), true, 5
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
	withoutOne, err := broker.TLS("", "", ours.File)
	require.NoError(t, err)
	require.NoError(t, open(ours.TLS("dipper")))
	require.Error(t, open(withoutOne), "the node shows no certificate")
	require.Error(t, open(theirs.TLS("kestrel")), "it is one of another authority")
	require.Error(t, open(nil), "the broker's is one that the system does not trust")
}
