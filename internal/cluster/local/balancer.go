package local

import (
	"context"
	"errors"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"net/http/httputil"
	"strings"
	"sync"
	"time"
)

// How a balancer looks at its nodes.
const (
	lookEvery = 500 * time.Millisecond
	lookIn    = time.Second
)

// balancer is a small load balancer. It sends each request, WebSockets too, to a node at random that is ready.
type balancer struct {
	proxy *httputil.ReverseProxy
	nodes []*backend
}

// backend is a node as a balancer has it.
type backend struct {
	name  string
	cable *Cable
	http  *http.Transport

	mu    sync.Mutex
	ready bool
}

func newBalancer(nodes []*backend) *balancer {
	b := &balancer{nodes: nodes}
	for _, n := range nodes {
		n.http = &http.Transport{DialContext: func(ctx context.Context, _, _ string) (net.Conn, error) { return n.cable.dial(ctx) }, MaxIdleConnsPerHost: 64, DisableCompression: true}
	}
	b.proxy = &httputil.ReverseProxy{
		Rewrite: func(r *httputil.ProxyRequest) {
			r.SetXForwarded()
			r.Out.URL.Scheme, r.Out.URL.Host = "http", "node"
			r.Out.Host = r.In.Host
		},
		Transport: b, FlushInterval: -1,
		ErrorHandler: func(w http.ResponseWriter, _ *http.Request, _ error) { w.WriteHeader(http.StatusBadGateway) },
	}
	return b
}

// framed lets pages below /demo show pages of the service in a frame.
func framed(r *http.Response) error {
	const policy = "Content-Security-Policy"
	if is := r.Header.Get(policy); is != "" {
		r.Header.Set(policy, strings.Replace(is, "frame-ancestors 'none'", "frame-ancestors 'self'", 1))
	}
	return nil
}

// look asks each node whether it is ready, until ctx is done.
func (b *balancer) look(ctx context.Context) {
	var looking sync.WaitGroup
	for _, n := range b.nodes {
		looking.Go(func() {
			for ctx.Err() == nil {
				ready := n.look(ctx)
				n.mu.Lock()
				n.ready = ready
				n.mu.Unlock()
				select {
				case <-ctx.Done():
				case <-time.After(lookEvery):
				}
			}
		})
	}
	looking.Wait()
}

func (n *backend) look(ctx context.Context) bool {
	ctx, cancel := context.WithTimeout(ctx, lookIn)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, "http://node/readyz", nil)
	if err != nil {
		return false
	}
	response, err := n.http.RoundTrip(request)
	if err != nil {
		return false
	}
	_, _ = io.Copy(io.Discard, response.Body)
	_ = response.Body.Close()
	return response.StatusCode == http.StatusOK
}

func (n *backend) isReady() bool {
	n.mu.Lock()
	defer n.mu.Unlock()
	return n.ready
}

// errNoNode says that no node takes requests.
var errNoNode = errors.New("no node is ready")

// RoundTrip implements [http.RoundTripper]. A node that cannot be reached is left out.
func (b *balancer) RoundTrip(r *http.Request) (*http.Response, error) {
	body := r.Body
	if body != nil {
		defer func() { _ = body.Close() }()
	}
	err := error(errNoNode)
	for _, i := range rand.Perm(len(b.nodes)) {
		n := b.nodes[i]
		if !n.isReady() {
			continue
		}
		again := r.Clone(r.Context())
		if body != nil {
			again.Body = io.NopCloser(body)
		}
		var response *http.Response
		if response, err = n.http.RoundTrip(again); err == nil {
			return response, nil
		}
		n.mu.Lock()
		n.ready = false // until it says otherwise
		n.mu.Unlock()
		if dial := new(net.OpError); !errors.As(err, &dial) || dial.Op != "dial" {
			break // it may have taken the request
		}
	}
	return nil, err
}
