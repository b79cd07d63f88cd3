package server_test

import (
	"errors"
	"net/http"
	"slices"
	"strconv"
	"strings"
	"sync"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/clustertest"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// threeNodes starts a service on three nodes, which find each other over loopback.
func threeNodes(t *testing.T, with func(name string, c *server.Config)) map[string]*server.Server {
	names := []string{"dipper", "heron", "kestrel"}
	addresses := clustertest.FreeAddresses(t, len(names))
	return startNodes(t, names, func(name string, c *server.Config) {
		i := slices.Index(names, name)
		c.PrivateHooks = true
		c.Cluster.Listen, c.Cluster.Peers, c.Cluster.LogNodes, c.Cluster.Password = addresses[i], slices.Delete(slices.Clone(addresses), i, i+1), names, "the routes of one test"
		with(name, c)
	})
}

// unhurried returns timings under which a node on a busy machine is not taken for dead or cut off, and keeps its links.
func unhurried(is cluster.Timings) *cluster.Timings {
	is.Doubt, is.Dead, is.Away = 5*is.Doubt, 5*is.Dead, 5*is.Away
	return &is
}

// startNodes starts nodes. The cluster begins with the records of the first. In the end those are stopped that are in
// the map that it returns.
func startNodes(t *testing.T, names []string, with func(name string, c *server.Config)) map[string]*server.Server {
	nodes, mu, starting := map[string]*server.Server{}, sync.Mutex{}, sync.WaitGroup{}
	for i, name := range names {
		c := server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Data: t.TempDir(), Cluster: &server.Cluster{
			Name: "aldermoor", Node: name, Nodes: names, Timings: unhurried(cluster.DefaultTimings()),
		}}
		with(name, &c)
		if i == 0 {
			_, err := server.BeginCluster(c.Data, false)
			require.NoError(t, err)
		}
		starting.Go(func() {
			s, err := server.Start(c)
			if err != nil {
				t.Error(err)
				return
			}
			s.Ready()
			t.Cleanup(func() {
				if is := nodes[name]; is != nil { // it may have been stopped, or started again
					require.NoError(t, is.Stop())
				}
			})
			mu.Lock()
			defer mu.Unlock()
			nodes[name] = s
		})
	}
	starting.Wait()
	require.Len(t, nodes, len(names))
	return nodes
}

// soon repeats what a realm without an owner refuses, as it may be for some seconds on a busy machine.
func soon(t *testing.T, do func() error) {
	t.Helper()
	var err error
	require.Eventually(t, func() bool { err = do(); return err == nil }, patience, 50*time.Millisecond, "%v", err)
}

func dialSoon(t *testing.T, o client.Options) (link *client.Link) {
	t.Helper()
	soon(t, func() (err error) { link, err = client.Dial(t.Context(), o); return err })
	t.Cleanup(link.Close)
	return link
}

// TestThreeNodesAreOneService starts nodes with different files, brings people to each of them, and stops one.
func TestThreeNodesAreOneService(t *testing.T) {
	t.Parallel()
	started := 0
	var reread server.Config
	nodes := threeNodes(t, func(name string, c *server.Config) {
		policy := presence.DefaultPolicy()
		policy.GraceLost = time.Duration(10+started) * time.Second
		c.Policy = &policy
		started++
		if name == "heron" {
			reread = *c
			c.Reread = func() (server.Config, error) { return reread, nil }
		}
	})
	second := *reread.Cluster // a copy of its configuration, at another address
	second.Listen, second.Peers = clustertest.FreeAddresses(t, 1)[0], append(slices.Clone(second.Peers), second.Listen)
	_, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Data: t.TempDir(), Cluster: &second})
	require.ErrorContains(t, err, "hears another process that is the node heron")
	nodesHaveOneConfiguration(t, nodes, &reread)
	nodesSeeTheSame(t, nodes)
	everyRequestElsewhere(t, nodes)
	nobodyIsSeenToLeaveWhenANodeStops(t, nodes)
}

// nodesHaveOneConfiguration has nodes with different files, of which one is reloaded.
func nodesHaveOneConfiguration(t *testing.T, nodes map[string]*server.Server, reread *server.Config) {
	graces := func() (all []int64) {
		for _, s := range nodes {
			policies, err := client.API{Server: s.URL(), Key: key}.Policies(t.Context(), "")
			require.NoError(t, err)
			if grace := policies.Policies[0].GraceLost; !slices.Contains(all, grace) {
				all = append(all, grace)
			}
		}
		return all
	}
	require.Eventually(t, func() bool { return len(graces()) == 1 }, patience, 10*time.Millisecond, "all nodes have that of the first")
	changed := presence.DefaultPolicy()
	changed.GraceLost = time.Minute
	reread.Policy = &changed
	soon(t, func() error {
		_, err := nodes["heron"].Reload()
		return err
	})
	require.Eventually(t, func() bool { return slices.Equal([]int64{60_000}, graces()) }, patience, 10*time.Millisecond, "all nodes have that of the reload")
}

// joins waits until an onlooker sees somebody join.
func (o *onlooker) joins(t *testing.T, user string) []client.Event {
	t.Helper()
	return o.until(t, func(e client.Event) bool {
		return slices.ContainsFunc(e.Joined, func(m wire.Member) bool { return m.User == user })
	})
}

// nodesSeeTheSame has people at two nodes, whom a third one shows, and back ends that ask any.
func nodesSeeTheSame(t *testing.T, nodes map[string]*server.Server) {
	here := watch(t, nodes["kestrel"])
	merrin := dialSoon(t, client.Options{Server: nodes["dipper"].URL(), Token: mint(t, "merrin"), Rooms: []string{weir}})
	here.joins(t, "merrin")
	lark := dialSoon(t, client.Options{Server: nodes["heron"].URL(), Token: mint(t, "lark"), Rooms: []string{weir}})
	here.joins(t, "lark")
	for name, s := range nodes {
		api := client.API{Server: s.URL(), Key: key}
		var count wire.Room
		soon(t, func() (err error) { count, err = api.Count(t.Context(), weir); return err })
		require.Equal(t, 2, count.People, name)
	}
	for user, link := range map[string]*client.Link{"lark": lark, "merrin": merrin} {
		require.NoError(t, link.Bye(t.Context()))
		here.until(t, func(e client.Event) bool {
			return slices.ContainsFunc(e.Left, func(d client.Departed) bool { return d.User == user })
		})
	}
	// Each happening is counted at one node, and each row at all.
	measured := func(series string) (at, sum int) {
		for _, s := range nodes {
			_, text := ask(t, http.MethodGet, s.URL()+"/metrics", "Bearer "+key, "")
			for line := range strings.Lines(text) {
				if value, ok := strings.CutPrefix(line, series+" "); ok {
					n, err := strconv.Atoi(strings.TrimSpace(value))
					require.NoError(t, err)
					sum += n
					if n > 0 {
						at++
					}
				}
			}
		}
		return at, sum
	}
	require.Eventually(t, func() bool {
		_, joins := measured(`tovik_joins_total{realm="main"}`)
		_, ends := measured(`tovik_sessions_ended_total{realm="main",reason="bye"}`)
		writers, _ := measured("tovik_records_rows_total")
		return joins == 2 && ends == 2 && writers == len(nodes)
	}, patience, 50*time.Millisecond)
}

// nobodyIsSeenToLeaveWhenANodeStops stops a node. Its person comes to another one, and nobody saw anybody
// leave; what was answered is there.
func nobodyIsSeenToLeaveWhenANodeStops(t *testing.T, nodes map[string]*server.Server) {
	here := watch(t, nodes["kestrel"])
	dialSoon(t, client.Options{Server: nodes["heron"].URL(), Token: mint(t, "ilse"), Rooms: []string{weir}})
	here.joins(t, "ilse")
	bram := dialSoon(t, client.Options{Server: nodes["dipper"].URL(), Token: mint(t, "bram"), Rooms: []string{weir}})
	here.joins(t, "bram")
	api := client.API{Server: nodes["heron"].URL(), Key: key}
	soon(t, func() error {
		_, err := api.AddRealm(t.Context(), "training")
		if problem := new(wire.Problem); errors.As(err, &problem) && problem.Code == wire.CodeExists {
			return nil // it came of the try before
		}
		return err
	})
	for _, user := range []string{"bram", "ilse"} { // what is answered is on record, and so are their sessions
		soon(t, func() error {
			_, err := api.SetStatus(t.Context(), user, wire.StatusWanted{Status: "busy", Note: "at the pumps"})
			return err
		})
	}
	require.NoError(t, nodes["dipper"].Stop())
	nodes["dipper"] = nil
	again := dialSoon(t, client.Options{Server: nodes["heron"].URL(), Token: mint(t, "bram"), Rooms: []string{weir}, Resume: bram.Resume()})
	require.True(t, again.Opened().Resumed)
	dialSoon(t, client.Options{Server: nodes["kestrel"].URL(), Token: mint(t, "tarn"), Rooms: []string{weir}})
	for _, e := range here.joins(t, "tarn") {
		require.Empty(t, e.Left)
	}
	var members wire.Members
	soon(t, func() (err error) { members, err = api.Members(t.Context(), weir); return err })
	require.Len(t, members.Members, 3)
	require.Equal(t, "at the pumps", members.Members[1].Note)
	realms, err := client.API{Server: nodes["kestrel"].URL(), Key: key}.Realms(t.Context())
	require.NoError(t, err)
	require.Len(t, realms.Realms, 2)
}
