package broker_test

import (
	"bytes"
	"crypto/tls"
	"fmt"
	"io"
	"log/slog"
	"net"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/cluster/broker"
	"tovik.example/tovik/internal/cluster/clustertest"
)

// lines is a log that a test reads.
type lines struct {
	mu   sync.Mutex
	text bytes.Buffer
}

func (l *lines) Write(p []byte) (int, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.Write(p)
}

func (l *lines) String() string {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.text.String()
}

// door is the one port of a node for others, and what an attacker may know.
type door struct {
	t            *testing.T
	address      string
	ours, theirs *clustertest.Authority
	password     string
}

// dial connects, over TLS if there is a configuration.
func (d *door) dial(config *tls.Config) (net.Conn, error) {
	conn, err := net.DialTimeout("tcp", d.address, time.Minute)
	require.NoError(d.t, err)
	d.t.Cleanup(func() { _ = conn.Close() })
	if config == nil {
		return conn, nil
	}
	if err := conn.SetDeadline(time.Now().Add(time.Minute)); err != nil {
		return nil, err
	}
	secured := tls.Client(conn, config)
	return secured, secured.Handshake()
}

// says writes lines, and returns all that comes back until the connection ends.
func says(t *testing.T, conn net.Conn, text string) string {
	require.NoError(t, conn.SetDeadline(time.Now().Add(time.Minute)))
	_, _ = io.WriteString(conn, text)
	answer, _ := io.ReadAll(conn)
	return string(answer)
}

// TestNobodyGetsInAtTheDoorOfANode tries to get in where other nodes do, or at what else a node listens to. It has no
// certificate or not the password: who has both is a node. Two nodes hear each other all the time; each attempt ends,
// and those that said something are counted and noted with the address.
func TestNobodyGetsInAtTheDoorOfANode(t *testing.T) {
	t.Parallel()
	noted := &lines{}
	d := &door{t: t, ours: clustertest.NewAuthority(t), theirs: clustertest.NewAuthority(t), password: "the routes of one test"}
	addresses := clustertest.FreeAddresses(t, 2)
	d.address = addresses[0]
	start := func(o broker.ServerOptions) *broker.Server {
		if o.Cluster == "" {
			o.Cluster = "aldermoor"
		}
		if o.Password == "" {
			o.Password = d.password
		}
		o.Dir = t.TempDir()
		s, err := broker.StartServer(o)
		require.NoError(t, err)
		return s
	}
	dipper := start(broker.ServerOptions{Node: "dipper", Listen: addresses[0], Peers: addresses[1:], TLS: d.ours.TLS("dipper"), Log: slog.New(slog.NewTextHandler(noted, nil))})
	heron := start(broker.ServerOptions{Node: "heron", Listen: addresses[1], Peers: addresses[:1], TLS: d.ours.TLS("heron")})
	t.Cleanup(func() { dipper.Stop(); heron.Stop() })
	require.Eventually(t, func() bool { return dipper.Nodes() == 1 }, time.Minute, 10*time.Millisecond)
	inside, err := dipper.Connect()
	require.NoError(t, err)
	t.Cleanup(inside.Close)
	leaks := make(chan *nats.Msg, 100)
	_, err = inside.ChanSubscribe("aldermoor.>", leaks)
	require.NoError(t, err)

	connect := fmt.Sprintf("CONNECT {\"user\":\"route\",\"pass\":%q,\"name\":\"merlin\",\"cluster\":\"aldermoor\"}\r\n", d.password)
	publish := "PUB aldermoor.bus.dipper 2\r\nhi\r\nRMSG $G aldermoor.bus.dipper 2\r\nhi\r\nPING\r\n"
	info := func(name, cluster string) string {
		return fmt.Sprintf("INFO {\"server_id\":\"NX%s\",\"server_name\":%q,\"cluster\":%q,\"headers\":true,\"proto\":1}\r\n", strings.ToUpper(name), name, cluster)
	}
	with := func(change func(*tls.Config)) *tls.Config {
		config := d.ours.Client("wagtail")
		change(config)
		return config
	}
	node := func(peer broker.ServerOptions) func() {
		return func() {
			peer.Listen, peer.Peers = "127.0.0.1:0", addresses[:1]
			stranger := start(peer)
			defer stranger.Stop()
			outside, err := stranger.Connect()
			require.NoError(t, err)
			defer outside.Close()
			heard := make(chan *nats.Msg, 100)
			_, err = outside.ChanSubscribe("aldermoor.>", heard)
			require.NoError(t, err)
			for range 25 { // it may have a connection for a moment, until it is refused
				require.NoError(t, outside.Publish("aldermoor.bus.dipper", []byte("let me in")))
				require.NoError(t, inside.Publish("aldermoor.bus.heron", []byte("for heron alone")))
				time.Sleep(20 * time.Millisecond)
			}
			require.Empty(t, heard)
		}
	}
	refused := func(config *tls.Config, text string) func() {
		return func() {
			conn, err := d.dial(config)
			if err != nil {
				return
			}
			require.NotContains(t, says(t, conn, text), "PONG")
		}
	}
	for _, attempt := range []struct {
		what   string
		counts bool // others may be refused without a word
		do     func()
	}{
		{"a node of another authority", true, node(broker.ServerOptions{Node: "kestrel", TLS: d.theirs.TLS("kestrel")})},
		{"a node without a certificate", true, node(broker.ServerOptions{Node: "plover"})},
		{"a node with another password", true, node(broker.ServerOptions{Node: "wagtail", Password: "a guess of a stranger", TLS: d.ours.TLS("wagtail")})},
		{"a node of another cluster", true, node(broker.ServerOptions{Node: "merlin", Cluster: "millwater", TLS: d.ours.TLS("merlin")})},
		{"a node whose certificate has expired", true, node(broker.ServerOptions{Node: "siskin", TLS: d.ours.TLSUntil("siskin", time.Now().Add(-time.Minute))})},
		{"a client with the password of nodes, without TLS", false, refused(nil, connect+publish)},
		{"a request of the web", false, refused(nil, "GET / HTTP/1.1\r\nHost: dipper\r\n\r\n")},
		{"TLS without a certificate", true, refused(with(func(c *tls.Config) { c.GetClientCertificate = nil }), connect+publish)},
		{"TLS 1.2", true, refused(with(func(c *tls.Config) { c.MinVersion, c.MaxVersion = tls.VersionTLS10, tls.VersionTLS12 }), connect+publish)},
		{"a certificate, and no password", false, refused(with(func(*tls.Config) {}), "CONNECT {}\r\n"+publish)},
		{"a certificate, and a guess of the password", true, refused(with(func(*tls.Config) {}), strings.Replace(connect, d.password, "a guess", 1)+info("merlin", "aldermoor")+publish)},
		{"a certificate, and messages before the password", false, refused(with(func(*tls.Config) {}), publish)},
		{"a certificate, and rubbish", false, refused(with(func(*tls.Config) {}), strings.Repeat("\x00\xff", 1<<16))},
		{"a certificate, and a line without end", false, refused(with(func(*tls.Config) {}), "CONNECT {\""+strings.Repeat("a", 1<<20))},
		{"a certificate, and silence", false, refused(with(func(*tls.Config) {}), "")},
		{"silence", false, refused(nil, "")},
	} {
		before := dipper.Refused()
		attempt.do()
		require.Eventually(t, func() bool { return dipper.Nodes() == 1 }, time.Minute, time.Millisecond, attempt.what) // heron alone
		require.NoError(t, inside.Flush())
		require.Empty(t, leaks, attempt.what)
		if attempt.counts {
			require.Eventually(t, func() bool { return dipper.Refused() > before }, time.Minute, time.Millisecond, attempt.what)
		}
	}
	// What else the node listens to is for its own process.
	for _, user := range []string{"", "node:node@", "route:" + strings.ReplaceAll(d.password, " ", "%20") + "@"} {
		_, err := nats.Connect("nats://"+user+dipper.ClientAddress(), nats.MaxReconnects(0))
		require.ErrorContains(t, err, "Authorization")
	}
	require.Empty(t, leaks)
	text := noted.String()
	for _, said := range []string{"127.0.0.1:", "handshake", "authentication"} {
		require.Contains(t, text, said)
	}
}
