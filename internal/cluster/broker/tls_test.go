package broker_test

import (
	"crypto/tls"
	"log/slog"
	"math/big"
	"path/filepath"
	"strings"
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
	withoutOne, err := broker.TLS("", "", ours.File)
	require.NoError(t, err)
	theirs.Node("kestrel")
	ofOthers, err := broker.TLS(filepath.Join(theirs.Dir, "kestrel.pem"), filepath.Join(theirs.Dir, "kestrel.key"), ours.File)
	require.NoError(t, err)
	for name, c := range map[string]struct {
		config *tls.Config
		why    string
	}{
		"the node shows no certificate":                      {withoutOne, "tls"},
		"it is one of another authority":                     {ofOthers, "tls"},
		"the broker's is one that the system does not trust": {nil, "unknown authority"},
	} {
		said := &lines{}
		conn, err := broker.Dial(address, "", c.config, slog.New(slog.NewTextHandler(said, nil)))
		require.NoError(t, err, name)
		defer conn.Close()
		require.Eventually(t, func() bool { return strings.Contains(said.String(), c.why) }, time.Minute, 10*time.Millisecond, name)
		require.False(t, conn.IsConnected(), name)
	}
	conn, err := broker.Dial(address, "", ours.TLS("dipper"), slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	defer conn.Close()
	_, err = broker.Open(t.Context(), broker.Options{Conn: conn, Cluster: "aldermoor", Node: "dipper", Identity: "the log of one test"})
	require.NoError(t, err)
}
