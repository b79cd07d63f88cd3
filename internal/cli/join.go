package cli

import (
	"bufio"
	"cmp"
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"sync"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/wire"
)

func joinCommand() *cli.Command {
	return &cli.Command{
		Name: "join", Usage: "be a session in a room, from this terminal", ArgsUsage: "ROOM",
		Description: "Others see you join, type, become idle, and leave when you end it. Prints who comes and goes. " +
			"On a terminal each keystroke is input, and Enter sends the message; otherwise each line of input is a message.\n\n" +
			"If you must ask to enter the room, the command asks. A line that begins with / is a command, such as an answer to an ask or invitation; /help lists them.\n\n" +
			"Uses --token, or mints a token for --user with the secret of the service, like tovik token.\n\nExample: tovik join basin.upper-weir --user w-98 --name 'Lark Alder'",
		Flags: append(serviceFlags(),
			&cli.StringFlag{Name: "token", Usage: "the `TOKEN` to join with", Sources: cli.EnvVars("TOVIK_TOKEN")},
			&cli.StringFlag{Name: "user", Usage: "without a token: the stable `ID` of the person"}, &cli.StringFlag{Name: "name", Usage: "the `NAME` that others see"},
			&cli.BoolFlag{Name: "admit", Usage: "the minted token lets others into the room"}, &cli.StringSliceFlag{Name: "rooms", Usage: "further rooms of the minted token, a `PATTERN`, repeatable: to invite people to, and to be invited to"},
			&cli.StringFlag{Name: "device", Usage: "the `KIND` of device that others see: desktop, phone, tablet, device"},
			&cli.DurationFlag{Name: "for", Usage: "leave after this `TIME`; by default only when interrupted"},
			dataFlag(defaultData, ", for its secret"), secretFlag()),
		Action: join,
	}
}

func join(ctx context.Context, c *cli.Command) error {
	name, err := room(c)
	if err != nil {
		return err
	}
	a, err := api(c)
	if err != nil {
		return err
	}
	token, err := joinToken(c, name)
	if err != nil {
		return err
	}
	if d := c.Duration("for"); d > 0 {
		var stop context.CancelFunc
		ctx, stop = context.WithTimeout(ctx, d)
		defer stop()
	}
	v := &visit{room: name, out: c.Root().Writer}
	follower := client.Follow(client.Options{Server: a.Server, NewToken: func(context.Context) (string, error) { return token() }, Rooms: []string{name}, Device: c.String("device")})
	ctx, leave := context.WithCancel(ctx)
	following, stop := context.WithCancel(context.WithoutCancel(ctx)) // saying bye needs the link
	var beside sync.WaitGroup
	defer func() {
		leave()
		beside.Wait()
	}()
	if in := os.Stdin; term.IsTerminal(int(in.Fd())) {
		v.program = tea.NewProgram(&typing{visit: v, ctx: ctx}, tea.WithContext(ctx), tea.WithoutSignalHandler(), tea.WithOutput(v.out))
		beside.Go(func() {
			defer leave()
			_, _ = v.program.Run() // its only error is that it was stopped
		})
	} else {
		go v.readLines(ctx, in) // a read cannot be cancelled; it ends with the process
	}
	beside.Go(func() {
		<-ctx.Done()
		v.bye(following)
		stop()
	})
	for change, err := range follower.Changes(following) {
		if err != nil {
			return err
		}
		if ctx.Err() != nil {
			break // we have said bye
		}
		v.tell(change, typists(follower, name))
		if _, ok := change.(client.Linked); ok {
			v.use(follower.Link())
		}
	}
	beside.Wait()
	_, err = fmt.Fprintf(v.out, "You have left %s.\n", name)
	return err
}

// joinToken returns a source of tokens: the given one, or new ones.
func joinToken(c *cli.Command, room string) (func() (string, error), error) {
	if given := c.String("token"); given != "" {
		return func() (string, error) { return given, nil }, nil
	}
	if c.String("user") == "" {
		return nil, usage("%s wants --token, or --user to mint one for", c.FullName())
	}
	secret := c.String("token-secret")
	if secret == "" {
		var err error
		if secret, err = access.ReadTokenSecret(c.String("data")); err != nil {
			return nil, noSecret(c.String("data"), err)
		}
	}
	return func() (string, error) {
		rooms := append([]string{room}, c.StringSlice("rooms")...)
		grants := wire.Grants{Rooms: rooms, Invite: rooms, People: []string{"*"}}
		if c.Bool("admit") {
			grants.Admit = []string{room}
		}
		return client.Token{User: c.String("user"), Name: c.String("name"), TTL: time.Hour, Grants: grants}.Sign(secret)
	}, nil
}

// visit is a stay in a room from a terminal.
type visit struct {
	room    string
	out     io.Writer
	program *tea.Program // nil: no terminal
	typists []string     // printed last

	mu        sync.Mutex
	link      *client.Link
	last      time.Time // of the last typing report
	answering answering
}

func (v *visit) use(link *client.Link) {
	v.mu.Lock()
	defer v.mu.Unlock()
	v.link = link
}

// say prints a line above the input line.
func (v *visit) say(format string, args ...any) {
	if v.program != nil {
		v.program.Send(tea.Printf(format, args...)()) // unlike its own Printf, this never blocks after the program's end
		return
	}
	_, _ = fmt.Fprintf(v.out, format+"\n", args...)
}

func (v *visit) tell(change client.Change, typists []string) {
	switch change := change.(type) {
	case client.Linked:
		again := "You are"
		if change.Opened.Resumed {
			again = "You are still"
		}
		if slices.ContainsFunc(change.Opened.Asked, func(a wire.Ask) bool { return a.Room == v.room }) {
			v.say("You ask to be let into %s. Ctrl-C withdraws.", v.room)
			return
		}
		v.say("%s in %s. Ctrl-C leaves.", again, v.room)
	case client.Lost:
		v.say("The link was lost: %v. It is being made again; the others see you until your grace is over.", change.Err)
	case wire.Drop:
		v.say("%s: %s.", change.Room, change.Problem.Error())
	case wire.AsksFrame, wire.AskFrame, wire.Invitations, wire.InvitationFrame:
		v.mu.Lock()
		lines := v.answering.heard(change)
		v.mu.Unlock()
		for _, line := range lines {
			v.say("%s", line)
		}
	case client.Event:
		if change.Room != v.room {
			return // of an invitation that was accepted
		}
		if change.Whole {
			var names []string
			for _, m := range change.Joined {
				names = append(names, named(m.Name, m.User))
			}
			v.say("Here: %s.", cmp.Or(strings.Join(names, ", "), "nobody"))
			return
		}
		for _, line := range happenings(change) {
			v.say("%s", line)
		}
	case wire.TypingFrame:
		if slices.Equal(v.typists, typists) {
			return // it is about ourselves
		}
		v.typists = typists
		switch len(typists) {
		case 0:
			v.say("Nobody is typing.")
		case 1:
			v.say("%s is typing …", typists[0])
		default:
			v.say("%s are typing …", strings.Join(typists, ", "))
		}
	}
}

// typists returns the names of the others who are typing.
func typists(f *client.Follower, room string) (names []string) {
	names = []string{}
	for _, user := range f.Typing(room) {
		if f.Link() != nil && f.Link().Opened().User == user {
			continue
		}
		name := user
		for _, m := range f.Members(room) {
			if m.User == user {
				name = displayName(m.Name, user)
			}
		}
		names = append(names, name)
	}
	return names
}

// typingEvery is the interval of typing reports.
const typingEvery = 2 * time.Second

// typed reports a key press, which is also human input.
func (v *visit) typed(ctx context.Context, on bool) {
	v.mu.Lock()
	link, due := v.link, time.Since(v.last) > typingEvery || !on
	if on && due {
		v.last = time.Now()
	} else if !on {
		v.last = time.Time{}
	}
	v.mu.Unlock()
	if link == nil || !due {
		return
	}
	_ = link.Activity(ctx) // a failure ends the link, which is reported
	_ = link.Typing(ctx, v.room, on)
}

func (v *visit) readLines(ctx context.Context, in io.Reader) {
	lines := bufio.NewScanner(in)
	for lines.Scan() && ctx.Err() == nil {
		if line := lines.Text(); strings.HasPrefix(line, "/") {
			v.say("%s", v.command(ctx, line))
			continue
		}
		v.typed(ctx, true)
		v.typed(ctx, false)
	}
}

// command carries out a line that begins with a slash, and returns what to print.
func (v *visit) command(ctx context.Context, line string) string {
	v.mu.Lock()
	link, known := v.link, v.answering
	v.mu.Unlock()
	if link == nil {
		return "There is no link yet."
	}
	ctx, cancel := context.WithTimeout(ctx, commandTimeout)
	defer cancel()
	text, err := known.command(ctx, link, v.room, line)
	if err != nil {
		text, _ = wordsFor(err)
	}
	return text
}

// bye leaves at once, without a grace.
func (v *visit) bye(ctx context.Context) {
	v.mu.Lock()
	link := v.link
	v.mu.Unlock()
	if link == nil {
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	_ = link.Bye(ctx) // otherwise the grace ends it
}

// typing is the input line.
type typing struct {
	visit *visit
	ctx   context.Context
	text  string
}

// Init implements [tea.Model].
func (t *typing) Init() tea.Cmd { return nil }

// Update implements [tea.Model].
func (t *typing) Update(m tea.Msg) (tea.Model, tea.Cmd) {
	k, ok := m.(tea.KeyPressMsg)
	if !ok {
		return t, nil
	}
	switch k.String() {
	case "ctrl+c", "ctrl+d", "esc":
		return t, tea.Quit
	case "enter":
		said := t.text
		t.text = ""
		if strings.HasPrefix(said, "/") {
			return t, tea.Batch(t.report(false), func() tea.Msg { return tea.Printf("%s", t.visit.command(t.ctx, said))() })
		}
		return t, tea.Batch(tea.Printf("You sent %q; Tovik carries only that you no longer type.", said), t.report(false))
	case "backspace":
		if runes := []rune(t.text); len(runes) > 0 {
			t.text = string(runes[:len(runes)-1])
		}
	default:
		t.text += k.Text
	}
	return t, t.report(t.text != "")
}

// report calls the service outside the program's loop.
func (t *typing) report(on bool) tea.Cmd {
	return func() tea.Msg {
		t.visit.typed(t.ctx, on)
		return nil
	}
}

// View implements [tea.Model].
func (t *typing) View() tea.View { return tea.NewView("> " + t.text + "▏") }

var _ tea.Model = (*typing)(nil)
