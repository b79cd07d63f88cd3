package test

import (
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/conform"
)

// conforms plays scenarios against a program, and returns what is wrong with it, by scenario.
func conforms(t *testing.T, only string, command ...string) (problems map[string]string) {
	t.Helper()
	problems = map[string]string{}
	var scenarios []conform.Scenario
	for _, scenario := range conform.Scenarios() {
		if strings.Contains(scenario.Name, only) {
			scenarios = append(scenarios, scenario)
		}
	}
	require.NotEmpty(t, scenarios, only)
	require.NoError(t, conform.Play(t.Context(), conform.Options{Command: command, Patience: patience, Together: 8}, scenarios, func(v conform.Verdict) {
		if !v.Passed {
			problems[v.Name] = v.Problem + "\n" + strings.Join(v.Story, "\n")
		}
	}))
	return problems
}

// TestClientsConform plays all scenarios against the browser library, the Go client, and a client of the test's own.
func TestClientsConform(t *testing.T) {
	t.Parallel()
	follower := filepath.Join(t.TempDir(), "follower")
	out, err := exec.CommandContext(t.Context(), "go", "build", "-o", follower, "./conform/follower").CombinedOutput()
	require.NoError(t, err, "%s", out)
	for _, command := range [][]string{{"node", "conform/page.mjs"}, {follower}, {"node", "conform/client.mjs"}} {
		require.Empty(t, conforms(t, "", command...), "%s", command)
	}
}

// TestABrokenRuleIsNamed breaks one rule at a time in a client that follows the others.
func TestABrokenRuleIsNamed(t *testing.T) {
	t.Parallel()
	for rule, says := range map[string]string{
		"hello.nonce":         "on the next link of the same run",
		"hello.resume":        "its hello should resume session-1",
		"list.changed":        "it should report the members [e-01 w-04 w-09]",
		"list.dropped":        "it should report the members []",
		"list.gap":            "it should send watch or join for the room again",
		"list.snapshot-again": "it should report the members [w-09]",
		"resuming.revs":       "must say that it has basin.upper-weir at R.2",
		"requests.bye":        "although the user has ended the session",
		"service.beat":        `it should send ["beat"]`,
		"service.expiring":    `it should send ["renew"]`,
		"service.moving":      "and should wait for 1500",
		"service.no-place":    "and should wait for 1500",
		"service.silence":     "it should open a link",
		"errors.final":        "it should report the state refused or closed",
		"errors.pauses":       "at most 12 are no storm",
		"closed.4706":         "it should report the state closed or refused",
		"frames.id":           "an id is a string or a whole number",
	} {
		t.Run(rule, func(t *testing.T) {
			t.Parallel()
			only, problem := rule, ""
			if rule == "frames.id" { // holds in each
				only = "list.snapshot"
			}
			require.NoError(t, conform.Play(t.Context(), conform.Options{Command: []string{"env", "BREAKS=" + rule, "node", "conform/client.mjs"}, Patience: 15 * time.Second}, named(only), func(v conform.Verdict) {
				require.False(t, v.Passed, v.Name)
				require.NotEmpty(t, v.Rule)
				problem = v.Problem
			}))
			require.Contains(t, problem, says)
		})
	}
}

func named(name string) []conform.Scenario {
	for _, scenario := range conform.Scenarios() {
		if scenario.Name == name {
			return []conform.Scenario{scenario}
		}
	}
	return nil
}
