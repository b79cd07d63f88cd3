package server_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// TestMoreNodesKeepTheLog has one node keep the log, then all three: their configurations are changed, and they are
// restarted one after the other. Then the first is stopped, without which nothing went before.
func TestMoreNodesKeepTheLog(t *testing.T) {
	t.Parallel()
	configs := map[string]server.Config{}
	nodes := threeNodes(t, func(name string, c *server.Config) {
		c.Cluster.LogNodes = []string{"dipper"}
		configs[name] = *c
	})
	list := func(name string) wire.Nodes {
		list, err := client.API{Server: nodes[name].URL(), Key: key}.Nodes(t.Context())
		require.NoError(t, err)
		return list
	}
	complete := func(at string, copies int) {
		require.Eventually(t, func() bool {
			is := list(at)
			for _, n := range is.Nodes {
				if n.State != wire.NodeReady && n.State != wire.NodeAway {
					return false
				}
			}
			return is.Log.Copies == copies && is.Log.Current == copies
		}, patience, patience/1000)
	}
	complete("heron", 1)
	for i, name := range []string{"dipper", "heron", "kestrel"} {
		require.Equal(t, 1, list(name).Log.Copies, "not before all nodes have the same configuration")
		require.NoError(t, nodes[name].Stop())
		c := configs[name]
		more := *c.Cluster
		more.LogNodes = more.Nodes
		c.Cluster = &more
		var err error
		nodes[name], err = server.Start(c)
		require.NoError(t, err)
		nodes[name].Ready()
		if i < 2 {
			complete(name, 1)
		}
	}
	complete("heron", 3)
	ilse := dialSoon(t, client.Options{Server: nodes["dipper"].URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	soon(t, func() error { return ilse.SetStatus(t.Context(), "busy", "at the pumps", time.Time{}) })
	require.NoError(t, nodes["dipper"].Stop())
	nodes["dipper"] = nil
	again := dialSoon(t, client.Options{Server: nodes["heron"].URL(), Token: mint(t, "ilse"), Rooms: []string{weir}, Resume: ilse.Resume()})
	require.True(t, again.Opened().Resumed)
	soon(t, func() error { return again.SetStatus(t.Context(), "busy", "at the sluice", time.Time{}) })
}
