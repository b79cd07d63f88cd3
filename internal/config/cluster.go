package config

import (
	"fmt"
	"net"
	"net/url"
	"os"
	"slices"
	"strconv"
	"strings"

	"tovik.example/tovik/internal/presence"
)

// Cluster is the configuration of a node of a cluster.
type Cluster struct {
	Name     string   `toml:"name" default:"tovik" doc:"The name of the cluster, the same at all nodes."`
	Node     string   `toml:"node" example:"dipper" doc:"The name of this node, one of cluster.nodes. With it the service is a node of a cluster; without, it is alone."`
	Listen   string   `toml:"listen" example:"10.0.0.1:8421" doc:"The HOST:PORT at which other nodes reach this one. Without certificates it must be on loopback."`
	Peers    []string `toml:"peers" example:"10.0.0.2:8421,10.0.0.3:8421" doc:"The addresses of the other nodes."`
	Nodes    []string `toml:"nodes" example:"dipper,heron,kestrel" doc:"The names of all nodes. All nodes need the same list."`
	LogNodes []string `toml:"log_nodes" example:"dipper,heron,kestrel" doc:"The names of the one, three or five nodes that keep the log. All nodes need the same list. The service needs a majority of them."`
	Broker   string   `toml:"broker" example:"tls://broker.aldermoor.example:4222" doc:"The address of an external broker: a nats-server with JetStream. Several addresses are separated by commas. It keeps the log, so leave out listen, peers, log_nodes and password. Beyond loopback it must be tls://, or there must be cluster.ca."`
	Creds    string   `toml:"broker_credentials" example:"tovik.creds" doc:"A file with the credentials for the external broker."`
	LogSize  int      `toml:"log_megabytes" default:"10240" min:"64" doc:"How large the log may become at each node that keeps it. Beyond that it drops its oldest records, even if they are less than a day old. With an external broker it counts only when the log is made."`
	Copies   int      `toml:"log_copies" default:"3" min:"1" max:"5" doc:"How many servers of the external broker keep the log when it is made: 1, 3 or 5."`
	Password string   `toml:"password" example:"the sluices are open at night" doc:"The password that all nodes have in common: 16 bytes or more."`
	Cert     string   `toml:"cert" example:"dipper.pem" doc:"A file with the certificate of this node in PEM. The path is relative to this file. Certificate and key are read again for each connection, so they can be replaced while nodes run."`
	Key      string   `toml:"key" example:"dipper.key" doc:"A file with the key of that certificate in PEM."`
	CA       string   `toml:"ca" example:"nodes.pem" doc:"A file in PEM with the certificates of the authorities that sign those of nodes."`
}

// On reports whether the service is a node of a cluster.
func (c *Cluster) On() bool { return c.Node != "" }

// check checks what belongs together, and resolves the files of the certificate.
func (c *Cluster) check(dir string, from map[string]string, wrong wrong) error {
	if !c.On() {
		for _, without := range []given{{"listen", c.Listen != ""}, {"peers", len(c.Peers) > 0}, {"nodes", len(c.Nodes) > 0}, {"log_nodes", len(c.LogNodes) > 0}, {"broker", c.Broker != ""}} {
			if without.is {
				return wrong("cluster."+without.key, "", "only with cluster.node, the name of this node")
			}
		}
		return nil
	}
	for _, name := range append([]string{c.Name, c.Node}, c.Nodes...) {
		if room, err := presence.ParseRoom(name); err != nil || len(room) > 32 || strings.Contains(name, ".") {
			return wrong("cluster.nodes", name, "names of 1 to 32 letters, digits, - and _")
		}
	}
	if !slices.Contains(c.Nodes, c.Node) {
		return wrong("cluster.node", c.Node, "one of cluster.nodes: "+strings.Join(c.Nodes, ", "))
	}
	if c.Broker != "" {
		return c.external(dir, from, wrong)
	}
	if c.Creds != "" {
		return wrong("cluster.broker_credentials", c.Creds, "only with cluster.broker, the broker that they are for")
	}
	if len(c.Nodes) == 2 {
		return wrong("cluster.nodes", strings.Join(c.Nodes, ", "), "one node, or three or more. Two need cluster.broker, because neither could go on without the other")
	}
	for _, name := range c.LogNodes {
		if !slices.Contains(c.Nodes, name) {
			return wrong("cluster.log_nodes", name, "names of cluster.nodes: "+strings.Join(c.Nodes, ", "))
		}
	}
	switch {
	case !slices.Contains([]int{1, 3, 5}, len(c.LogNodes)):
		return wrong("cluster.log_nodes", strings.Join(c.LogNodes, ", "), "one, three or five of cluster.nodes")
	case len(c.Peers) == 0 && len(c.Nodes) > 1:
		return wrong("cluster.peers", "", "the addresses of the other nodes, HOST:PORT each")
	case len(c.Password) < 16:
		return wrong("cluster.password", "", "16 bytes or more, the same at all nodes")
	}
	for _, named := range []struct {
		key       string
		addresses []string
	}{{"listen", []string{c.Listen}}, {"peers", c.Peers}} {
		for _, address := range named.addresses {
			_, port, err := net.SplitHostPort(address)
			if n, bad := strconv.ParseUint(port, 10, 16); err != nil || bad != nil || n == 0 {
				return wrong("cluster."+named.key, address, "HOST:PORT, as in 10.0.0.1:8421")
			}
		}
	}
	host, _, _ := net.SplitHostPort(c.Listen)
	if c.Cert+c.Key+c.CA == "" {
		if !onLoopback(host) {
			return wrong("cluster.listen", c.Listen, "an address of loopback, as in 127.0.0.1:8421; others need cluster.cert, cluster.key and cluster.ca")
		}
		return nil
	}
	for _, file := range []struct{ key, is string }{{"cert", c.Cert}, {"key", c.Key}, {"ca", c.CA}} {
		if file.is == "" {
			return wrong("cluster."+file.key, "", "a file in PEM; cert, key and ca belong together")
		}
	}
	return c.files(dir, from, wrong)
}

// given says whether a key is given. Keys are checked in an order, so that the same mistake is always named.
type given struct {
	key string
	is  bool
}

// external checks the settings of an external broker.
func (c *Cluster) external(dir string, from map[string]string, wrong wrong) error {
	for _, beside := range []given{{"listen", c.Listen != ""}, {"peers", len(c.Peers) > 0}, {"log_nodes", len(c.LogNodes) > 0}, {"password", c.Password != ""}} {
		if beside.is {
			return wrong("cluster."+beside.key, "", "nothing beside cluster.broker: nodes meet there, and it keeps the log")
		}
	}
	if (c.Cert == "") != (c.Key == "") {
		return wrong("cluster.cert", c.Cert, "a file in PEM; cert and key belong together")
	}
	for address := range strings.SplitSeq(c.Broker, ",") {
		is, err := url.Parse(strings.TrimSpace(address))
		switch {
		case err != nil || is.Scheme != "nats" && is.Scheme != "tls" || is.Port() == "" || is.Hostname() == "":
			return wrong("cluster.broker", hidden(address), "nats://HOST:PORT or tls://HOST:PORT; several are separated by commas")
		case is.Scheme == "nats" && c.CA == "" && !onLoopback(is.Hostname()):
			return wrong("cluster.broker", hidden(address), "tls://HOST:PORT, or also cluster.ca: beyond loopback the connection must be encrypted")
		}
	}
	if c.Copies%2 == 0 {
		return wrong("cluster.log_copies", strconv.Itoa(c.Copies), "1, 3 or 5")
	}
	if c.Creds != "" {
		if from["cluster.broker_credentials"] == "" {
			c.Creds = beside(dir, c.Creds)
		}
		if _, err := os.Stat(c.Creds); err != nil {
			return wrong("cluster.broker_credentials", c.Creds, fmt.Sprintf("a file that is there (%v)", err))
		}
	}
	return c.files(dir, from, wrong)
}

// hidden returns an address without the password that it may have.
func hidden(address string) string {
	if at := strings.LastIndex(address, "@"); at >= 0 {
		return "…" + address[at:]
	}
	return address
}

func onLoopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// files resolves the files of the certificate that are given.
func (c *Cluster) files(dir string, from map[string]string, wrong wrong) error {
	files := map[string]*string{"cert": &c.Cert, "key": &c.Key, "ca": &c.CA}
	for _, key := range []string{"cert", "key", "ca"} {
		named := *files[key]
		if named == "" {
			continue
		}
		if from["cluster."+key] == "" {
			*files[key] = beside(dir, named)
		}
		if _, err := os.Stat(*files[key]); err != nil {
			return wrong("cluster."+key, named, fmt.Sprintf("a file in PEM that is there (%v)", err))
		}
	}
	return nil
}
