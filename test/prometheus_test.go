package test

import (
	"encoding/json"
	"fmt"
	"net/http"
	"net/url"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"go.yaml.in/yaml/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/cluster/local"
	"tovik.example/tovik/wire"
)

// TestEachAlertFires runs the tests of the alert rules, of which each has a case in which it fires.
func TestEachAlertFires(t *testing.T) {
	t.Parallel()
	for _, args := range [][]string{{"check", "rules", "tovik.rules.yml"}, {"test", "rules", "tovik.rules.test.yml"}} {
		promtool := exec.CommandContext(t.Context(), "promtool", args...)
		promtool.Dir = "../deploy/prometheus"
		out, err := promtool.CombinedOutput()
		require.NoError(t, err, "%s", out)
	}
	var rules struct {
		Groups []struct {
			Rules []struct{ Alert string }
		}
	}
	var tests struct {
		Tests []struct {
			Cases []struct {
				Alert string `yaml:"alertname"`
				Fires []any  `yaml:"exp_alerts"`
			} `yaml:"alert_rule_test"`
		}
	}
	for name, into := range map[string]any{"tovik.rules.yml": &rules, "tovik.rules.test.yml": &tests} {
		text, err := os.ReadFile(filepath.Join("../deploy/prometheus", name))
		require.NoError(t, err)
		require.NoError(t, yaml.Unmarshal(text, into))
	}
	fires := map[string]bool{}
	for _, test := range tests.Tests {
		for _, c := range test.Cases {
			fires[c.Alert] = fires[c.Alert] || len(c.Fires) > 0
		}
	}
	require.NotEmpty(t, rules.Groups)
	for _, rule := range rules.Groups[0].Rules {
		require.True(t, fires[rule.Alert], rule.Alert)
	}
}

// TestTheDashboardHasData has Prometheus scrape a node while somebody comes, is refused, loses a link, returns and leaves.
// Each query of the dashboard finds something, and no alert fires.
func TestTheDashboardHasData(t *testing.T) {
	t.Parallel()
	nodes, err := local.Start(local.Options{Program: tovik, Dir: t.TempDir(), Names: []string{"dipper"}, Listen: "127.0.0.1:0", Secret: secret, Key: key,
		Settings: "[quota]\nsessions = 1000\n"}, nil)
	require.NoError(t, err)
	t.Cleanup(nodes.Stop)
	awaitNodes(t, nodes)
	rules, err := filepath.Abs("../deploy/prometheus/tovik.rules.yml")
	require.NoError(t, err)
	at, dir := freeAddress(t), t.TempDir()
	config := filepath.Join(dir, "prometheus.yml")
	require.NoError(t, os.WriteFile(config, fmt.Appendf(nil, `
global: {scrape_interval: 1s, evaluation_interval: 1s}
rule_files: [%s]
scrape_configs:
  - job_name: tovik
    authorization: {credentials: %s}
    static_configs: [{targets: [%s]}]
`, rules, key, strings.TrimPrefix(nodes.At("dipper"), "http://")), 0o600))
	prometheus := exec.Command("prometheus", "--config.file", config, "--storage.tsdb.path", filepath.Join(dir, "data"), "--web.listen-address", at, "--log.level", "error")
	prometheus.Stderr = os.Stderr
	require.NoError(t, prometheus.Start())
	t.Cleanup(func() { _, _ = prometheus.Process.Kill(), prometheus.Wait() })
	get := func(path string, query url.Values, into any) error {
		response, err := http.Get("http://" + at + path + "?" + query.Encode())
		if err != nil {
			return err
		}
		defer response.Body.Close()
		return json.NewDecoder(response.Body).Decode(into)
	}
	for range 40 { // one delivery in 64 is measured
		link, err := client.Dial(t.Context(), client.Options{Server: nodes.At("dipper"), Key: key, Watch: []wire.Watch{{Room: weir, Detail: "members"}}})
		require.NoError(t, err)
		t.Cleanup(link.Close)
	}
	something := func() { // rates need two points that differ
		link, err := client.Dial(t.Context(), client.Options{Server: nodes.At("dipper"), Token: mint(t, "w-17", "Merrin Withywind"), Rooms: []string{weir}})
		if err != nil {
			return
		}
		resume := link.Resume()
		link.Close()
		if link, err = client.Dial(t.Context(), client.Options{Server: nodes.At("dipper"), Token: mint(t, "w-17", "Merrin Withywind"), Rooms: []string{weir}, Resume: resume}); err == nil {
			_ = link.Bye(t.Context())
		}
		_, _ = client.Dial(t.Context(), client.Options{Server: nodes.At("dipper"), Token: "a guess"})
	}

	text, err := os.ReadFile("../deploy/prometheus/dashboard.json")
	require.NoError(t, err)
	var dashboard struct {
		Panels []struct {
			Title   string
			Targets []struct{ Expr string }
		}
	}
	require.NoError(t, json.Unmarshal(text, &dashboard))
	waits := map[string]string{}
	for _, panel := range dashboard.Panels {
		for _, target := range panel.Targets {
			waits[target.Expr] = panel.Title
		}
	}
	require.Greater(t, len(waits), 30)
	for until := time.Now().Add(2 * patience); len(waits) > 0; time.Sleep(time.Second) {
		something()
		for expr, title := range waits {
			require.Less(t, time.Now(), until, "%s: %s", title, expr)
			query := strings.NewReplacer("$__rate_interval", "1m", "$job", ".*").Replace(expr)
			var answer struct {
				Error string
				Data  struct{ Result []struct{ Value []any } }
			}
			if get("/api/v1/query", url.Values{"query": {query}}, &answer) != nil {
				continue
			}
			require.Empty(t, answer.Error, expr)
			if len(answer.Data.Result) > 0 && answer.Data.Result[0].Value[1] != "NaN" {
				delete(waits, expr)
			}
		}
	}
	var is struct {
		Data struct {
			Groups []struct {
				Rules []struct{ Name, State, Health, LastError string }
			}
		}
	}
	require.NoError(t, get("/api/v1/rules", nil, &is))
	for _, rule := range is.Data.Groups[0].Rules {
		require.Equal(t, "ok", rule.Health, "%s: %s", rule.Name, rule.LastError)
		require.NotEqual(t, "firing", rule.State, rule.Name)
	}
}
