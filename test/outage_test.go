package test

import (
	"math/rand/v2"
	"net/http"
	"net/http/httptest"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/test/chrome"
	"tovik.example/tovik/wire"
)

// TestAnOutageMovesNobodyToAWorseTransport cuts a page from its service twenty times, for 0.2 to
// 8 seconds. It returns over a WebSocket each time, and nobody sees it leave. The grace is long,
// so that the speed of the machine does not matter.
func TestAnOutageMovesNobodyToAWorseTransport(t *testing.T) {
	t.Parallel()
	policy := presence.DefaultPolicy()
	policy.GraceLost, policy.GraceClosing, policy.GraceBackground = 60*time.Second, 60*time.Second, 60*time.Second
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: key, Policy: &policy})
	require.NoError(t, err)
	s.Ready()
	t.Cleanup(func() { require.NoError(t, s.Stop()) })
	network := layCable(t, s.URL())
	app := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/html")
		_, _ = w.Write([]byte(`<!doctype html><title>an outage</title><script type="module">
import { openTab } from "` + s.URL() + `/client/tovik.js";
const { link } = openTab({ server: "` + network.url() + `/", token: "` + mint(t, "ilse", "Ilse Marrow") + `", rooms: ["` + weir + `"] });
link.subscribe(() => { window.state = link.snapshot.state; window.revs = link.snapshot.rooms.get("` + weir + `")?.rev; });
</script>`))
	}))
	t.Cleanup(app.Close)

	left := make(chan client.Event, 1000)
	third, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Key: key, Watch: []wire.Watch{{Room: weir}}, OnEvent: func(e client.Event) {
		if len(e.Left) > 0 {
			left <- e
		}
	}})
	require.NoError(t, err)
	t.Cleanup(third.Close)
	browser, stop, err := chrome.Start(t.Context())
	require.NoError(t, err)
	t.Cleanup(stop)
	page := open(t, browser, app.URL, "/")
	const live = `window.state?.word === "open" && window.state.over === "websocket"`
	page.until(live)
	random := rand.New(rand.NewPCG(1, 2))
	for outage := range 20 {
		// Most outages are short.
		length := 200*time.Millisecond + time.Duration(random.Float64()*random.Float64()*float64(7800*time.Millisecond))
		network.fail(t, length)
		page.until(`window.state?.word === "open"`)
		page.until(live)
		require.Empty(t, left, "outage %d of %s was seen", outage, length)
	}
	// The room continues at its last revision.
	other, err := client.Dial(t.Context(), client.Options{Server: s.URL(), Token: mint(t, "tobin", "Tobin Saltmarch"), Rooms: []string{weir}})
	require.NoError(t, err)
	page.until(`window.revs !== undefined && window.state.over === "websocket"`)
	require.NoError(t, other.Bye(t.Context()))
}
