package test

import (
	"flag"
	"fmt"
	"net"
	"os"
	"os/exec"
	"strings"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/cluster/clustertest"
	"tovik.example/tovik/internal/config"
)

// insideVariable has the path of tovik in a test that runs in a network namespace of its own.
const insideVariable = "TOVIK_TEST_INSIDE"

// inside runs a test in another process, in a network namespace of its own, and returns true when it has passed there.
// It returns false in that process, and where such namespaces cannot be had.
func inside(t *testing.T) bool {
	if os.Getenv(insideVariable) != "" {
		return false
	}
	program, err := os.Executable()
	require.NoError(t, err)
	args := []string{"-test.run", "^" + t.Name() + "$", "-test.v", "-test.timeout", "60m"}
	flag.Visit(func(f *flag.Flag) {
		if !strings.HasPrefix(f.Name, "test.") {
			args = append(args, "-"+f.Name+"="+f.Value.String())
		}
	})
	if said, err := apart("sh", "-c", "ip link add night type bridge && ip link add one type veth peer name other && nsenter --net=/proc/self/ns/net true").CombinedOutput(); err != nil {
		t.Logf("network namespaces cannot be had here (%v; %s), so nodes are connected by cables of this process", err, said)
		return false
	}
	there := apart(program, args...)
	there.Env = append(os.Environ(), insideVariable+"="+tovik)
	out, err := there.CombinedOutput()
	require.NoError(t, err, "%s", out)
	t.Logf("%s", out)
	return true
}

// apart returns a command that runs in a network namespace of its own, and not longer than this process.
func apart(program string, args ...string) *exec.Cmd {
	cmd := exec.Command(program, args...)
	cmd.SysProcAttr = &syscall.SysProcAttr{Cloneflags: syscall.CLONE_NEWNET, Pdeathsig: syscall.SIGKILL}
	return cmd
}

// lan connects nodes in network namespaces of their own by a bridge. It is a [local.Network].
type lan struct {
	t         *testing.T
	authority *clustertest.Authority
	hosts     map[string]int // of each node a process that holds its namespace
	numbers   map[string]int
}

// bridge is the address of the bridge, where this process is.
const bridge = "10.70.0.254"

// newLAN returns the lan of some nodes, in the namespace of this process, which must be its own; nil if it is not.
func newLAN(t *testing.T, names ...string) *lan {
	if os.Getenv(insideVariable) == "" {
		return nil
	}
	n := &lan{t: t, authority: clustertest.NewAuthority(t, net.ParseIP("10.70.0.1"), net.ParseIP("10.70.0.2"), net.ParseIP("10.70.0.3")), hosts: map[string]int{}, numbers: map[string]int{}}
	n.ip("link set lo up")
	n.ip("link add night type bridge")
	n.ip("addr add " + bridge + "/24 dev night")
	n.ip("link set night up")
	for i, name := range names {
		host := apart("sleep", "infinity")
		require.NoError(t, host.Start())
		t.Cleanup(func() { _ = host.Process.Kill(); _ = host.Wait() })
		n.hosts[name], n.numbers[name] = host.Process.Pid, i+1
		n.ip(fmt.Sprintf("link add %s type veth peer name eth0 netns %d", n.port(name), host.Process.Pid))
		n.ip("link set " + n.port(name) + " master night up")
		for _, does := range []string{"link set lo up", fmt.Sprintf("addr add 10.70.0.%d/24 dev eth0", i+1), "link set eth0 up"} {
			out, err := n.Command(name, "ip", strings.Fields(does)...).CombinedOutput()
			require.NoError(t, err, "%s", out)
		}
	}
	return n
}

func (n *lan) ip(does string) {
	n.t.Helper()
	out, err := exec.Command("ip", strings.Fields(does)...).CombinedOutput()
	require.NoError(n.t, err, "ip %s: %s", does, out)
}

// port returns the port of the bridge at which a node is.
func (n *lan) port(name string) string { return "to-" + name }

// Addresses implements [local.Network].
func (n *lan) Addresses(name string) (clients, nodes string) {
	return fmt.Sprintf("10.70.0.%d:8420", n.numbers[name]), fmt.Sprintf("10.70.0.%d:8421", n.numbers[name])
}

// Settings implements [local.Network].
func (n *lan) Settings(name string) string {
	cert, key := n.authority.Node(name)
	return fmt.Sprintf("cert = %q\nkey = %q\nca = %q\n", cert, key, n.authority.File)
}

// Command implements [local.Network].
func (n *lan) Command(name, program string, args ...string) *exec.Cmd {
	return exec.Command("nsenter", append([]string{fmt.Sprintf("--net=/proc/%d/ns/net", n.hosts[name]), program}, args...)...)
}

// Cut implements [local.Network]. Isolated ports of a bridge reach all others, but not each other.
func (n *lan) Cut(one, other string, cut bool) {
	for _, name := range []string{one, other} {
		n.ip("link set " + n.port(name) + " type bridge_slave isolated " + map[bool]string{true: "on", false: "off"}[cut])
	}
}

// Unplug implements [local.Network].
func (n *lan) Unplug(name string, cut bool) {
	if cut {
		n.ip("link set " + n.port(name) + " nomaster")
	} else {
		n.ip("link set " + n.port(name) + " master night")
	}
}

// TestANodeThatIsUnpluggedIsNotReached shows that the network of these tests does what it says.
func TestANodeThatIsUnpluggedIsNotReached(t *testing.T) {
	t.Parallel()
	if inside(t) {
		return
	}
	n := newLAN(t, "dipper", "heron", "kestrel")
	if n == nil {
		t.Skip("network namespaces are not allowed here")
	}
	for _, name := range []string{"dipper", "heron", "kestrel"} {
		_, nodes := n.Addresses(name)
		listens := n.Command(name, tovik, "serve", "--listen", nodes, "--data", t.TempDir(), "--operator-key", key, "--token-secret", secret)
		require.NoError(t, listens.Start())
		t.Cleanup(func() { _ = listens.Process.Kill(); _ = listens.Wait() })
	}
	reaches := func(from, to string) bool {
		_, nodes := n.Addresses(to)
		asks := n.Command(from, tovik, "rooms", "--server", "http://"+nodes, "--key", key)
		require.NoError(t, asks.Start())
		gone := time.AfterFunc(5*time.Second, func() { _ = asks.Process.Kill() })
		defer gone.Stop()
		return asks.Wait() == nil
	}
	sees := func(is bool, from, to string) {
		t.Helper()
		if !is {
			require.False(t, reaches(from, to), "%s reaches %s", from, to)
			return
		}
		require.Eventually(t, func() bool { return reaches(from, to) }, patience, 100*time.Millisecond, "%s does not reach %s", from, to)
	}
	pairs := func(dipperHeron, heronKestrel, kestrelDipper bool) {
		t.Helper()
		sees(dipperHeron, "dipper", "heron")
		sees(heronKestrel, "heron", "kestrel")
		sees(kestrelDipper, "kestrel", "dipper")
	}
	pairs(true, true, true)
	n.Cut("dipper", "heron", true)
	pairs(false, true, true)
	n.Cut("dipper", "heron", false)
	n.Unplug("kestrel", true)
	pairs(true, false, false)
	n.Unplug("kestrel", false)
	pairs(true, true, true)
}

// TestTheDemoListensWhereTheServiceDoes starts the demo, of one node and of three, without saying where.
func TestTheDemoListensWhereTheServiceDoes(t *testing.T) {
	t.Parallel()
	if inside(t) {
		return
	}
	if os.Getenv(insideVariable) == "" {
		t.Skip("network namespaces are not allowed here")
	}
	require.NoError(t, exec.Command("ip", "link", "set", "lo", "up").Run())
	settings, err := config.Read("", func(config.Key) (text, where string) { return "", "" })
	require.NoError(t, err)
	for _, nodes := range []string{"1", "3"} {
		demo, said := background(t, "Ctrl-C", "demo", "--nodes", nodes, "--people", "3", "--data", t.TempDir())
		require.Contains(t, said, "http://"+settings.Listen+"/", "%s nodes", nodes)
		require.NoError(t, demo.Process.Signal(syscall.SIGTERM))
		require.Zero(t, ends(t, demo))
	}
}
