package cli

import (
	"io"
	"os/exec"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/urfave/cli/v3"
)

// TestEveryCommandHasAnExample checks that each command has an example. TestTheExamplesOfHelpRun
// runs them.
func TestEveryCommandHasAnExample(t *testing.T) {
	var lacking []string
	var look func(c *cli.Command, path string)
	look = func(c *cli.Command, path string) {
		for _, sub := range c.Commands {
			look(sub, path+" "+sub.Name)
		}
		if len(c.Commands) == 0 && !c.Hidden && !strings.Contains(c.Description, "Example: "+path) {
			lacking = append(lacking, path)
		}
	}
	look(command(io.Discard, io.Discard), "tovik")
	require.Empty(t, lacking)
}

// TestAProgramThatFailsIsNoUnknownCommand checks an error that has an exit code, as one of the library's help has.
func TestAProgramThatFailsIsNoUnknownCommand(t *testing.T) {
	message, code := wordsFor(&exec.ExitError{})
	require.NotContains(t, message, "no command")
	require.Equal(t, exitFailed, code)
}
