package broker

import (
	"crypto/rand"
	"crypto/tls"
	"errors"
	"fmt"
	"log/slog"
	"net"
	"net/http"
	"net/url"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"sync"
	"sync/atomic"
	"time"

	"github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"golang.org/x/time/rate"

	"tovik.example/tovik/internal/cluster"
)

// Server is the broker's server in this process: a member of a cluster of them.
type Server struct {
	is      *server.Server
	user    string
	pass    string
	refused atomic.Int64

	mu      sync.Mutex
	routes  map[uint64]Traffic // by connection, when it was last looked at
	traffic Traffic
}

// ServerOptions are the settings of a [Server]. Cluster, Node, Dir, Listen and Password are required.
type ServerOptions struct {
	Cluster  string       // the name that all nodes have in common
	Node     cluster.Name // of this one
	Dir      string       // of the log and the table, if this node keeps them
	Listen   string       // the address for other nodes, as in 10.0.0.1:8421
	Peers    []string     // addresses of other nodes
	KeepsLog bool
	// Votes says that the node takes part in choosing who keeps the log and who leads it, even if it does not keep it.
	// At least three nodes must vote, or one that has no peers.
	Votes    bool
	Password string      // that all nodes have in common
	TLS      *tls.Config // both sides show certificates; nil: none, on loopback only
	Log      *slog.Logger
}

// How the servers notice that one of them has stopped, and how much may wait for one.
const (
	pingEvery  = time.Second
	pingsOut   = 2
	routesEach = 1 // to another server, beside one for what servers say to each other; each is pinged
	maxPayload = 8 << 20
	maxPending = 256 << 20
	readyIn    = 10 * time.Second
	unlimited  = 1 << 50

	fewestVoters, mostVoters = 3, 5
)

// keeperTag marks the servers that keep the log.
const keeperTag = "keeps-log"

// Voters returns the nodes that vote: all of up to five nodes. Of more, those that keep the log vote, and others if these
// are fewer than three.
func Voters[N ~string](nodes, keepers []N) []N {
	if len(nodes) <= mostVoters {
		return nodes
	}
	voters := slices.Clone(keepers)
	for _, name := range slices.Sorted(slices.Values(nodes)) {
		if len(voters) < fewestVoters && !slices.Contains(voters, name) {
			voters = append(voters, name)
		}
	}
	return voters
}

// StartServer starts a server. It accepts no clients but those of this process.
func StartServer(o ServerOptions) (*Server, error) {
	host, portText, err := net.SplitHostPort(o.Listen)
	if err != nil {
		return nil, fmt.Errorf("cluster.listen is %q, and must be HOST:PORT: %w", o.Listen, err)
	}
	port, err := strconv.Atoi(portText)
	if err != nil {
		return nil, fmt.Errorf("cluster.listen is %q, and must end in a number: %w", o.Listen, err)
	}
	if port == 0 {
		port = server.RANDOM_PORT
	}
	if ip := net.ParseIP(host); o.TLS == nil && (ip == nil || !ip.IsLoopback()) {
		return nil, fmt.Errorf("cluster.listen is %q: without certificates nodes may listen on loopback only, as in 127.0.0.1:8421", o.Listen)
	}
	s := &Server{user: "node", pass: rand.Text()}
	options := &server.Options{
		ServerName: string(o.Node), NoSigs: true, NoLog: true, NoFastProducerStall: true, MaxPayload: maxPayload, MaxPending: maxPending,
		// It must listen, or the routes never start; nobody is let in there.
		Host: "127.0.0.1", Port: server.RANDOM_PORT,
		Users:            []*server.User{{Username: s.user, Password: s.pass, AllowedConnectionTypes: map[string]struct{}{"IN_PROCESS": {}}}},
		Cluster:          server.ClusterOpts{Name: o.Cluster, Host: host, Port: port, Username: "route", Password: o.Password, PingInterval: pingEvery, MaxPingsOut: pingsOut, PoolSize: routesEach, TLSConfig: o.TLS, TLSTimeout: 2, NoAdvertise: true},
		LameDuckDuration: 1200 * time.Millisecond, LameDuckGracePeriod: 200 * time.Millisecond,
		DisableJetStreamBanner: true, ConnectErrorReports: 3600, ReconnectErrorReports: 3600,
	}
	if o.KeepsLog || o.Votes {
		options.JetStream, options.StoreDir, options.SyncAlways = true, filepath.Join(o.Dir, "log"), true
		options.JetStreamMaxStore = unlimited // the log has a limit of its own, which need not be free on the disk yet
	}
	if o.KeepsLog {
		options.Tags = []string{keeperTag}
	}
	if len(o.Peers) == 0 { // of several servers, one alone would wait for the others
		options.Cluster = server.ClusterOpts{}
	}
	for _, peer := range o.Peers {
		options.Routes = append(options.Routes, &url.URL{Scheme: "nats-route", Host: peer, User: url.UserPassword("route", o.Password)})
	}
	if s.is, err = server.NewServer(options); err != nil {
		return nil, fmt.Errorf("the broker does not start: %w", err)
	}
	if o.Log != nil {
		s.is.SetLoggerV2(logger{o.Log.With("part", "broker"), &s.refused, rate.NewLimiter(linesAfter, mostLines)}, false, false, false)
	}
	s.is.Start()
	if !s.is.ReadyForConnections(readyIn) {
		s.is.Shutdown()
		return nil, errors.New("the broker did not start within " + readyIn.String())
	}
	return s, nil
}

// Connect connects to the server, in this process.
func (s *Server) Connect(options ...nats.Option) (*nats.Conn, error) {
	options = append([]nats.Option{nats.InProcessServer(s.is), nats.UserInfo(s.user, s.pass)}, options...)
	return connect("", options...)
}

// Complete reports whether the server has caught up with the others, so that another one may be stopped.
func (s *Server) Complete() bool { return s.is.Healthz(nil).StatusCode == http.StatusOK }

// Copies returns the server's own copies for a cluster.
func (s *Server) Copies(cluster string) Copies {
	has := Copies{}
	is, err := s.is.JszAccount(&server.JSzOptions{Account: server.DEFAULT_GLOBAL_ACCOUNT, Streams: true})
	if err != nil {
		return has // it keeps nothing
	}
	for _, stream := range is.Streams {
		of, ok := strings.CutPrefix(stream.Name, cluster+"-")
		if ok && s.is.JetStreamIsStreamCurrent(server.DEFAULT_GLOBAL_ACCOUNT, stream.Name) {
			has[of] = stream.State.LastSeq
		}
	}
	return has
}

// Stop ends the server. Others notice it at once.
func (s *Server) Stop() {
	s.is.Shutdown()
	s.is.WaitForShutdown()
}

// Dial connects to an external broker. With a config, or an address with tls://, the connection uses TLS. Credentials is a
// file, or empty. It tries for as long as the program wants; the log says why it failed.
func Dial(addresses, credentials string, config *tls.Config, log *slog.Logger) (*nats.Conn, error) {
	said := ""
	options := []nats.Option{nats.PingInterval(pingEvery), nats.MaxPingsOutstanding(pingsOut),
		nats.ReconnectErrHandler(func(_ *nats.Conn, err error) {
			if said != err.Error() {
				said = err.Error()
				log.Warn("the broker cannot be reached", "error", err)
			}
		}),
		nats.ReconnectHandler(func(*nats.Conn) { said = "" }), // handlers run one after another
	}
	if credentials != "" {
		options = append(options, nats.UserCredentials(credentials))
	}
	if config != nil {
		options = append(options, nats.Secure(config))
	}
	conn, err := connect(addresses, options...)
	var unreadable *url.Error
	switch {
	case errors.As(err, &unreadable): // it shows the password
		return nil, fmt.Errorf("cluster.broker cannot be used: %w", unreadable.Err)
	case err != nil:
		return nil, fmt.Errorf("cluster.broker cannot be used: %w", err)
	}
	return conn, nil
}

// connect connects for as long as the program wants, and never gives up.
func connect(address string, options ...nats.Option) (*nats.Conn, error) {
	options = append(options, nats.MaxReconnects(-1), nats.ReconnectWait(100*time.Millisecond), nats.RetryOnFailedConnect(true), nats.NoEcho(), nats.Name("tovik"))
	return nats.Connect(address, options...)
}

// logger passes what the server says on to the log of the service. Its warnings are about its inner life, and what
// it calls errors passes by itself: a node that is not there yet.
type logger struct {
	to      *slog.Logger
	refused *atomic.Int64
	pace    *rate.Limiter // strangers must not fill the disk with lines
}

// Lines about connections of other servers: so many in a row, and so many a second.
const (
	mostLines  = 50
	linesAfter = 5
)

// aboutRoute is in what the server says about the connection of another server.
const aboutRoute = " - rid:"

func (l logger) Noticef(format string, v ...any) { l.to.Debug(fmt.Sprintf(format, v...)) }
func (l logger) Warnf(format string, v ...any)   { l.to.Debug(fmt.Sprintf(format, v...)) }
func (l logger) Fatalf(format string, v ...any)  { l.to.Error(fmt.Sprintf(format, v...)) }
func (l logger) Errorf(format string, v ...any) {
	text := fmt.Sprintf(format, v...)
	if strings.Contains(text, aboutRoute) {
		if n := l.refused.Add(1); l.pace.Allow() {
			l.to.Warn(text, "refused", n)
		}
		return
	}
	l.to.Warn(text)
}
func (l logger) Debugf(string, ...any) {}
func (l logger) Tracef(string, ...any) {}

// Traffic is what has gone over connections to other servers.
type Traffic struct{ MessagesIn, BytesIn, MessagesOut, BytesOut int64 }

// Traffic returns what has gone over connections to other servers since the start. Of a connection that has ended, it
// lacks what came after the last call.
func (s *Server) Traffic() Traffic {
	routes, err := s.is.Routez(nil)
	s.mu.Lock()
	defer s.mu.Unlock()
	if err != nil {
		return s.traffic
	}
	before := s.routes
	s.routes = map[uint64]Traffic{}
	for _, r := range routes.Routes {
		was, t := before[r.Rid], &s.traffic
		t.MessagesIn, t.BytesIn = t.MessagesIn+r.InMsgs-was.MessagesIn, t.BytesIn+r.InBytes-was.BytesIn
		t.MessagesOut, t.BytesOut = t.MessagesOut+r.OutMsgs-was.MessagesOut, t.BytesOut+r.OutBytes-was.BytesOut
		s.routes[r.Rid] = Traffic{r.InMsgs, r.InBytes, r.OutMsgs, r.OutBytes}
	}
	return s.traffic
}

// Refused returns how many connections of other servers were refused, or have failed. It needs a log.
func (s *Server) Refused() int { return int(s.refused.Load()) }

// Nodes returns how many other nodes the server is connected to.
func (s *Server) Nodes() int {
	routes, err := s.is.Routez(nil)
	if err != nil {
		return 0
	}
	nodes := map[string]bool{}
	for _, r := range routes.Routes {
		nodes[r.RemoteName] = true
	}
	return len(nodes)
}
