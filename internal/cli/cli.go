// Package cli is the command line: it parses, calls and prints. It has no rules of presence.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/signal"
	"strings"
	"syscall"

	"github.com/fasthttp/websocket"
	"github.com/urfave/cli/v3"

	"tovik.example/tovik/wire"
)

// Exit codes.
const (
	exitOK          = 0
	exitFailed      = 1
	exitUsage       = 2
	exitUnreachable = 3 // there is no service at the address
	exitRefused     = 4 // the key or token was refused
	exitUnknown     = 5 // there is no such room
)

// DefaultListen is the default address of a service, for serve and for the commands.
const DefaultListen = "127.0.0.1:8420"

// Version is the version of Tovik.
const Version = "0.1.0"

// Run executes a command line and returns the exit code of the process. An interrupt or SIGTERM
// cancels the command.
func Run(args []string, stdout, stderr io.Writer) int {
	ctx, stop := signal.NotifyContext(context.Background(), os.Interrupt, syscall.SIGTERM)
	defer stop()
	err := command(stdout, stderr).Run(ctx, args)
	if err == nil {
		return exitOK
	}
	message, code := wordsFor(err)
	_, _ = fmt.Fprintln(stderr, "tovik: "+message)
	return code
}

func command(stdout, stderr io.Writer) *cli.Command {
	commands := []*cli.Command{
		serveCommand(), demoCommand(), demoNodeCommand(), tokenCommand(),
		roomsCommand(), membersCommand(), countCommand(), watchCommand(), rehearseCommand(), conformCommand(),
		journalCommand(), attendanceCommand(), headcountCommand(), usageCommand(), timingCommand(), peopleCommand(), roomCommands(), hookCommand(),
		boardCommand(), joinCommand(), cueCommand(), loadCommand(), doctorCommand(), placeCommand(),
		keyCommand(), tokenKeyCommand(), realmCommand(), clusterCommand(), nodesCommand(), configCommand(), reloadCommand(), manCommand(),
	}
	commands = append(append(commands, presenceCommands()...), recordsCommands()...)
	commands = append(append(commands, moderationCommands()...), meetingCommands()...)
	root := &cli.Command{
		Name:      "tovik",
		Usage:     "who is here, who is away, how many, and since when",
		Version:   Version,
		Writer:    stdout,
		ErrWriter: stderr,
		Commands:  commands,
		// tovik completion bash, zsh, fish or pwsh writes a completion script.
		EnableShellCompletion: true,
		ConfigureShellCompletionCommand: func(c *cli.Command) {
			c.Hidden, c.Usage = false, "write the completion of a shell: bash, zsh, fish, pwsh"
			c.Description = "Bash: source <(tovik completion bash). Zsh: source <(tovik completion zsh). Fish: tovik completion fish | source.\n\nExample: tovik completion bash"
		},
		// Errors are printed once, by Run.
		ExitErrHandler: func(context.Context, *cli.Command, error) {},
	}
	tellsMistakes(root)
	return root
}

// failure is an error with the exit code that it causes.
type failure struct {
	code    int
	message string
}

func (f *failure) Error() string { return f.message }

// wordsFor returns the message of an error, and its exit code.
func wordsFor(err error) (string, int) {
	var f *failure
	var problem *wire.Problem
	var closed *websocket.CloseError
	var dial *net.OpError
	switch {
	case errors.As(err, &f):
		return f.message, f.code
	case errors.As(err, &problem):
		return wordsForProblem(problem)
	case errors.As(err, &closed):
		return fmt.Sprintf("the service closed the link: %s (%d)", closed.Text, closed.Code), exitFailed
	case errors.As(err, &dial) && dial.Op == "dial":
		address := "the address"
		if dial.Addr != nil {
			address = dial.Addr.String()
		}
		return fmt.Sprintf("nobody listens at %s: start a service with tovik serve or tovik demo, "+
			"or say where it is with --server or TOVIK_SERVER", address), exitUnreachable
	}
	said := err.Error()
	if name, ok := strings.CutPrefix(said, noCommand); ok {
		return fmt.Sprintf("there is no command %q; see tovik --help", strings.Trim(name, "'")), exitUsage
	}
	if found := inVariable(said); found != "" {
		return found, exitUsage
	}
	return said, exitFailed
}

func wordsForProblem(p *wire.Problem) (string, int) {
	switch p.Code {
	case wire.CodeNoKey:
		return "this needs an operator key: pass it with --key or TOVIK_KEY", exitRefused
	case wire.CodeBadKey:
		return "the key was refused: it is not the operator key of this service (--key or TOVIK_KEY)", exitRefused
	case wire.CodeUnknownRoom:
		return fmt.Sprintf("nobody is in %s now; tovik rooms lists the rooms that somebody is in", p.Value), exitUnknown
	}
	return p.Error(), exitFailed
}

// room returns the only argument of a command about a room.
func room(c *cli.Command) (string, error) {
	if c.Args().Len() != 1 {
		return "", usage("%s wants one room, as in: %s basin.upper-weir", c.FullName(), c.FullName())
	}
	return c.Args().First(), nil
}

func noArguments(c *cli.Command) error {
	if c.Args().Present() {
		return usage("%s takes no arguments, but got %q", c.FullName(), strings.Join(c.Args().Slice(), " "))
	}
	return nil
}
