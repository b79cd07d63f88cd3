package test

import (
	"bufio"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"net/http"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/wire"
)

// behindNginx starts nginx with the example configuration before a service, and returns its
// address.
func behindNginx(t *testing.T, service string) string {
	t.Helper()
	example, err := os.ReadFile("../deploy/nginx.conf")
	require.NoError(t, err)
	return startNginx(t, strings.ReplaceAll(string(example), "127.0.0.1:8420", service))
}

// startNginx starts nginx with a configuration that listens at 8080, and returns the address at which it listens instead.
func startNginx(t *testing.T, site string) string {
	t.Helper()
	dir, address := t.TempDir(), freeAddress(t)
	site = strings.NewReplacer("listen 8080;", "listen "+address+"; listen "+strings.Replace(address, "127.0.0.1", "127.0.0.2", 1)+";").Replace(site)
	config := fmt.Sprintf("daemon off; master_process off; pid %[1]s/pid; error_log %[1]s/error.log;\nevents {}\nhttp {\n access_log off; client_body_temp_path %[1]s/a; proxy_temp_path %[1]s/b; fastcgi_temp_path %[1]s/c; uwsgi_temp_path %[1]s/d; scgi_temp_path %[1]s/e;\n%[2]s\n}\n", dir, site)
	path := filepath.Join(dir, "nginx.conf")
	require.NoError(t, os.WriteFile(path, []byte(config), 0o600))
	cmd := exec.Command("nginx", "-p", dir, "-c", path, "-e", filepath.Join(dir, "error.log"))
	require.NoError(t, cmd.Start())
	t.Cleanup(func() {
		require.NoError(t, cmd.Process.Signal(os.Interrupt))
		_ = cmd.Wait()
	})
	require.Eventually(t, func() bool {
		conn, err := net.Dial("tcp", address)
		if err == nil {
			_ = conn.Close()
		}
		return err == nil
	}, patience, 20*time.Millisecond)
	return address
}

// TestBehindNginx uses everything that clients need through a proxy. The service believes only
// the proxy about client addresses.
func TestBehindNginx(t *testing.T) {
	t.Parallel()
	secret := strings.Repeat("k", 32)
	serve := func(config string) string {
		dir, address := t.TempDir(), freeAddress(t)
		path := filepath.Join(dir, "tovik.toml")
		require.NoError(t, os.WriteFile(path, []byte(config), 0o600))
		background(t, "listens at", "serve", "--listen", address, "--data", dir, "--operator-key", "own", "--token-secret", secret, "--config", path)
		return address
	}
	service := serve("trusted_proxies = [\"127.0.0.1\"]\n")
	proxy := behindNginx(t, service)
	api := client.API{Server: "http://" + proxy, Key: "own"}
	token := func(user string) string {
		text, err := client.Token{User: user, Grants: wire.Grants{Rooms: []string{"**"}}}.Sign(secret)
		require.NoError(t, err)
		return text
	}

	// A WebSocket.
	link, err := client.Dial(t.Context(), client.Options{Server: api.Server, Token: token("ilse"), Rooms: []string{weir}})
	require.NoError(t, err)
	defer link.Close()
	// Events of a stream arrive at once, not when a buffer is full.
	request := func(method, path, bearer, body string) *http.Request {
		r, err := http.NewRequestWithContext(t.Context(), method, api.Server+path, strings.NewReader(body))
		require.NoError(t, err)
		r.Header.Set("Authorization", "Bearer "+bearer)
		return r
	}
	stream, err := http.DefaultClient.Do(request("GET", "/v1/feed?room="+weir, token("tobin"), ""))
	require.NoError(t, err)
	defer func() { _ = stream.Body.Close() }()
	require.Equal(t, 200, stream.StatusCode)
	lines := bufio.NewScanner(stream.Body)
	until := func(lines *bufio.Scanner, text string) {
		t.Helper()
		for lines.Scan() {
			if strings.Contains(lines.Text(), text) {
				return
			}
		}
		t.Fatalf("the stream ended before %q: %v", text, lines.Err())
	}
	until(lines, "ilse")
	// HTTP beats.
	response, err := http.DefaultClient.Do(request("PUT", "/v1/sessions/new", token("hanne"), `{"rooms":["`+weir+`"]}`))
	require.NoError(t, err)
	var lease wire.Lease
	require.NoError(t, json.NewDecoder(response.Body).Decode(&lease))
	require.NoError(t, response.Body.Close())
	require.Equal(t, "hanne", lease.User)
	until(lines, "hanne")
	sessions, err := api.Sessions(t.Context(), weir, "", 10)
	require.NoError(t, err)
	over := map[string]string{}
	for _, s := range sessions.Sessions {
		over[s.User] = s.Over
	}
	require.Equal(t, map[string]string{"ilse": "websocket", "tobin": "stream", "hanne": "beats"}, over)
	out, errs, code := run(t, []string{"TOVIK_SERVER=" + api.Server, "TOVIK_KEY=own"}, "doctor")
	require.Zero(t, code, out+errs)
	require.Contains(t, out, "come at once")

	// A guesser of keys is locked out by their real address, whatever header they send.
	require.Equal(t, "127.0.0.1", lockedOut(t, proxy, nil))
	from := &net.Dialer{LocalAddr: &net.TCPAddr{IP: net.IPv4(127, 0, 0, 2)}}
	require.Equal(t, "127.0.0.2", lockedOut(t, strings.Replace(proxy, "127.0.0.1", "127.0.0.2", 1), from.DialContext))
	require.Equal(t, "127.0.0.1", lockedOut(t, serve(""), nil), "a service that trusts no proxy believes none")
}

// lockedOut guesses keys until it is locked out, and returns the address that the service noted.
func lockedOut(t *testing.T, server string, dial func(ctx context.Context, network, address string) (net.Conn, error)) string {
	t.Helper()
	guesser := &http.Client{Transport: &http.Transport{DialContext: dial, DisableKeepAlives: true}}
	for range 100 {
		request, err := http.NewRequestWithContext(t.Context(), http.MethodGet, "http://"+server+"/v1/rooms", nil)
		require.NoError(t, err)
		request.Header.Set("Authorization", "Bearer guess")
		request.Header.Set("X-Forwarded-For", "198.51.100.9")
		response, err := guesser.Do(request)
		require.NoError(t, err)
		text, err := io.ReadAll(response.Body)
		require.NoError(t, err)
		require.NoError(t, response.Body.Close())
		var problem wire.Document
		require.NoError(t, json.Unmarshal(text, &problem), string(text))
		if problem.Code == wire.CodeLockedOut {
			return problem.Value
		}
	}
	t.Fatal("nobody was locked out")
	return ""
}
