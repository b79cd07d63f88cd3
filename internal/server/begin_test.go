package server_test

import (
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// TestAClusterBeginsWithRecordsAndOneNodeGoesOnWithThem makes a service a cluster and a cluster a service. Who was
// here stays, and what was on record is there.
func TestAClusterBeginsWithRecordsAndOneNodeGoesOnWithThem(t *testing.T) {
	t.Parallel()
	policy := presence.DefaultPolicy()
	policy.GraceLost = 5 * time.Minute // nobody leaves here, on a machine of any speed
	dirs := map[string]string{"dipper": t.TempDir(), "heron": t.TempDir(), "kestrel": t.TempDir()}
	alone := startAlone(t, dirs["dipper"], &policy)
	bram := dial(t, client.Options{Server: alone.URL(), Token: mint(t, "bram"), Rooms: []string{weir}})
	api := client.API{Server: alone.URL(), Key: key}
	_, err := api.SetStatus(t.Context(), "bram", wire.StatusWanted{Status: "busy", Note: "at the pumps"})
	require.NoError(t, err)
	_, err = api.AddRealm(t.Context(), "training")
	require.NoError(t, err)
	_, err = server.BeginCluster(dirs["dipper"], false)
	require.ErrorContains(t, err, "in use by another tovik")
	require.NoError(t, alone.Stop())

	nodes := threeNodes(t, func(name string, c *server.Config) { c.Data, c.Policy = dirs[name], &policy })
	_, err = server.BeginCluster(dirs["dipper"], false)
	require.Error(t, err)
	here := watch(t, nodes["kestrel"])
	returned := dialSoon(t, client.Options{Server: nodes["heron"].URL(), Token: mint(t, "bram"), Rooms: []string{weir}, Resume: bram.Resume()})
	require.True(t, returned.Opened().Resumed)
	dialSoon(t, client.Options{Server: nodes["kestrel"].URL(), Token: mint(t, "tarn"), Rooms: []string{weir}})
	for _, e := range here.joins(t, "tarn") {
		require.Empty(t, e.Left)
	}
	all := api
	all.Server = nodes["kestrel"].URL()
	var list wire.Members
	soon(t, func() (err error) { list, err = all.Members(t.Context(), weir); return err })
	require.Len(t, list.Members, 2)
	require.Equal(t, "at the pumps", list.Members[0].Note)
	realms, err := all.Realms(t.Context())
	require.NoError(t, err)
	require.Len(t, realms.Realms, 2)
	for name, s := range nodes {
		require.NoError(t, s.Stop())
		nodes[name] = nil
	}
	_, err = server.BeginCluster(dirs["heron"], false)
	require.ErrorContains(t, err, "these records are those of a cluster already")

	after := startAlone(t, dirs["kestrel"], &policy)
	last := dial(t, client.Options{Server: after.URL(), Token: mint(t, "bram"), Rooms: []string{weir}, Resume: returned.Resume()})
	require.True(t, last.Opened().Resumed)
	api.Server = after.URL()
	list, err = api.Members(t.Context(), weir)
	require.NoError(t, err)
	require.Len(t, list.Members, 2)
	require.NoError(t, after.Stop())
	_, err = server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Data: dirs["kestrel"],
		Cluster: &server.Cluster{Name: "aldermoor", Node: "kestrel", Listen: "127.0.0.1:1", Nodes: []string{"kestrel"}, LogNodes: []string{"kestrel"}, Password: "the routes of one test"}})
	require.ErrorContains(t, err, "the records here are of a service that ran alone")
	require.ErrorContains(t, err, "tovik cluster begin")

	// One of several goes on as one without others only with another log, and the other way round.
	one := server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Data: dirs["dipper"],
		Cluster: &server.Cluster{Name: "aldermoor", Node: "dipper", Listen: "127.0.0.1:1", Nodes: []string{"dipper"}, LogNodes: []string{"dipper"}, Password: "the routes of one test"}}
	_, err = server.Start(one)
	require.ErrorContains(t, err, "is that of one node of several, and cannot go on as that of a node without others")
	_, err = server.BeginCluster(dirs["dipper"], true)
	require.NoError(t, err)
	single, err := server.Start(one)
	require.NoError(t, err)
	single.Ready()
	api.Server = single.URL()
	soon(t, func() (err error) { list, err = api.Members(t.Context(), weir); return err })
	require.Equal(t, "at the pumps", list.Members[0].Note)
	require.NoError(t, single.Stop())
	one.Cluster.Nodes = []string{"dipper", "heron", "kestrel"}
	_, err = server.Start(one)
	require.ErrorContains(t, err, "tovik cluster begin --again")
}

func startAlone(t *testing.T, dir string, policy *presence.Policy) *server.Server {
	t.Helper()
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Data: dir, Policy: policy})
	require.NoError(t, err)
	s.Ready()
	return s
}

// TestANodeThatWasAwayForLongTakesACopy has a node whose records end before the log begins.
func TestANodeThatWasAwayForLongTakesACopy(t *testing.T) {
	t.Parallel()
	configs := map[string]server.Config{}
	nodes := threeNodes(t, func(name string, c *server.Config) { configs[name] = *c })
	require.NoError(t, nodes["kestrel"].Stop())
	nodes["kestrel"] = nil
	api := client.API{Server: nodes["heron"].URL(), Key: key}
	soon(t, func() error {
		_, err := api.PutPerson(t.Context(), wire.Profile{User: "bram", Name: "Bram Alder"})
		return err
	})
	last, err := nodes["heron"].DropLog()
	require.NoError(t, err)
	require.Eventually(t, func() bool { return nodes["dipper"].Noted() >= last && nodes["heron"].Noted() >= last }, patience, 10*time.Millisecond)
	dir := configs["kestrel"].Data
	before, err := records.Open(dir)
	require.NoError(t, err)
	at, err := before.Position()
	require.NoError(t, err)
	require.NoError(t, before.Close())
	s, err := server.Start(configs["kestrel"])
	require.NoError(t, err)
	s.Ready()
	api.Server = s.URL()
	soon(t, func() error {
		person, err := api.Person(t.Context(), "bram")
		if err == nil {
			require.Equal(t, "Bram Alder", person.Name)
		}
		return err
	})
	require.NoError(t, s.Stop())
	after, err := records.Open(dir)
	require.NoError(t, err)
	defer func() { require.NoError(t, after.Close()) }()
	now, err := after.Position()
	require.NoError(t, err)
	require.Greater(t, now.At, at.At)
	require.Equal(t, at.Log, now.Log)
}
