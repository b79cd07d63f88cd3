package server_test

import (
	"encoding/json"
	"net/http"
	"slices"
	"strings"
	"testing"
	"time"

	natsserver "github.com/nats-io/nats-server/v2/server"
	"github.com/nats-io/nats.go"
	"github.com/stretchr/testify/assert"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/clustertest"
	"tovik.example/tovik/internal/cluster/local"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// nodesAt starts nodes that use an external broker, each through its own cable.
func nodesAt(t *testing.T, address string, names ...string) (map[string]*server.Server, map[string]*local.Cable) {
	cables := map[string]*local.Cable{}
	return startNodes(t, names, func(name string, c *server.Config) {
		var err error
		cables[name], err = local.NewCable(address)
		require.NoError(t, err)
		t.Cleanup(cables[name].Close)
		c.Cluster.Broker, c.Cluster.Copies = "nats://"+clustertest.User+":"+clustertest.Password+"@"+cables[name].Address(), 1
		c.Cluster.Timings = unhurried(cluster.ExternalTimings())
	}), cables
}

// ownerOf returns the node that owns the realm, as another one says.
func ownerOf(t *testing.T, at *server.Server) (owner string) {
	require.Eventually(t, func() bool {
		list, err := client.API{Server: at.URL(), Key: key}.Nodes(t.Context())
		if err != nil || len(list.Realms) != 1 || !list.Realms[0].Answers || list.Log.Current == 0 {
			return false
		}
		owner = list.Realms[0].Owner
		return true
	}, patience, patience/1000)
	return owner
}

// TestAnEventStreamMovesWhileARealmHasNoOwner has a broker whose log takes no records for a while, so that the owner is
// silent for longer than a hello waits. A client whose stream breaks meanwhile comes to another node, and goes on.
func TestAnEventStreamMovesWhileARealmHasNoOwner(t *testing.T) {
	t.Parallel()
	names := []string{"dipper", "heron", "kestrel"}
	broker := clustertest.StartBroker(t, "aldermoor", func(o *natsserver.Options) {
		o.Users = append(o.Users, &natsserver.User{Username: "operator", Password: clustertest.Password})
	})
	operator, err := nats.Connect(broker.ClientURL(), nats.UserInfo("operator", clustertest.Password))
	require.NoError(t, err)
	defer operator.Close()
	streams, err := operator.JetStream()
	require.NoError(t, err)
	longest := func(record int32) error {
		log, err := streams.StreamInfo("aldermoor-log")
		if err == nil {
			log.Config.MaxMsgSize = record
			_, err = streams.UpdateStream(&log.Config)
		}
		return err
	}
	nodes, _ := nodesAt(t, broker.Addr().String(), names...)
	owner := ownerOf(t, nodes["dipper"])
	others := slices.DeleteFunc(slices.Clone(names), func(name string) bool { return name == owner })
	here := watch(t, nodes[others[1]])
	var opened wire.Ticket
	require.Eventually(t, func() bool {
		response, text := ask(t, "POST", nodes[others[0]].URL()+"/v1/tickets", "Bearer "+mint(t, "ilse"), `{"rooms":["`+weir+`"]}`)
		return response.StatusCode == http.StatusCreated && json.Unmarshal([]byte(text), &opened) == nil
	}, patience, 50*time.Millisecond)
	f := follow(t, nodes[others[0]], opened.Feed, "", "")
	require.Equal(t, http.StatusOK, f.response.StatusCode)
	first := f.until("answer")
	here.joins(t, "ilse")
	lark := dialSoon(t, client.Options{Server: nodes[owner].URL(), Token: mint(t, "lark"), Rooms: []string{weir}})
	require.NoError(t, lark.SetStatus(t.Context(), "busy", "", time.Time{})) // what is answered is on record, and so is what came before

	require.NoError(t, longest(1))
	require.Eventually(t, func() bool {
		list, err := client.API{Server: nodes[others[1]].URL(), Key: key}.Nodes(t.Context())
		return err == nil && !list.Realms[0].Answers
	}, patience, 20*time.Millisecond, "the owner is silent")
	_ = f.response.Body.Close()
	const longer = 4 * time.Second // than a hello waits
	back := time.AfterFunc(longer, func() { assert.NoError(t, longest(-1)) })
	defer back.Stop()
	f = follow(t, nodes[others[1]], opened.Feed, "", f.last)
	require.Equal(t, http.StatusOK, f.response.StatusCode)
	again := f.until("answer")
	require.Equal(t, first["session"], again["session"])
	require.Equal(t, true, again["resumed"])
}

// TestTwoNodesShareABroker cuts the owner of the realm off from the external broker. The other node takes the realm over,
// nobody is seen to leave, and the node that is cut off says why it is not ready.
func TestTwoNodesShareABroker(t *testing.T) {
	t.Parallel()
	nodes, cables := nodesAt(t, clustertest.StartBroker(t, "aldermoor", nil).Addr().String(), "dipper", "heron")
	owner := ownerOf(t, nodes["dipper"])
	other := map[string]string{"dipper": "heron", "heron": "dipper"}[owner]
	here := watch(t, nodes[other])
	lark := dialSoon(t, client.Options{Server: nodes[owner].URL(), Token: mint(t, "lark"), Rooms: []string{weir}})
	here.joins(t, "lark")
	dialSoon(t, client.Options{Server: nodes[other].URL(), Token: mint(t, "merrin"), Rooms: []string{weir}})
	here.joins(t, "merrin")
	soon(t, func() error { // what is answered is on record
		_, err := client.API{Server: nodes[other].URL(), Key: key}.SetStatus(t.Context(), "lark", wire.StatusWanted{Status: "busy", Note: "at the pumps"})
		return err
	})

	cables[owner].Sever(true)
	require.Eventually(t, func() bool {
		list, err := client.API{Server: nodes[other].URL(), Key: key}.Nodes(t.Context())
		return err == nil && list.Realms[0].Owner == other && list.Realms[0].Answers
	}, patience, patience/1000, "the other node takes over")
	require.Eventually(t, func() bool {
		said, text := ask(t, http.MethodGet, nodes[owner].URL()+"/readyz", "", "")
		return said.StatusCode == http.StatusServiceUnavailable && strings.Contains(text, "the broker has taken no record of this node for")
	}, patience, patience/1000, "the node that is cut off says so")
	again := dialSoon(t, client.Options{Server: nodes[other].URL(), Token: mint(t, "lark"), Rooms: []string{weir}, Resume: lark.Resume()})
	require.True(t, again.Opened().Resumed)
	dialSoon(t, client.Options{Server: nodes[other].URL(), Token: mint(t, "tarn"), Rooms: []string{weir}})
	for _, e := range here.joins(t, "tarn") {
		require.Empty(t, e.Left)
	}

	cables[owner].Sever(false)
	dialSoon(t, client.Options{Server: nodes[owner].URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	for _, e := range here.joins(t, "ilse") {
		require.Empty(t, e.Left)
	}
}
