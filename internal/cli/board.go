package cli

import (
	"cmp"
	"context"
	"fmt"
	"os"
	"slices"
	"strings"
	"time"

	tea "charm.land/bubbletea/v2"
	"github.com/charmbracelet/x/ansi"
	"github.com/urfave/cli/v3"
	"golang.org/x/term"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/wire"
)

func boardCommand() *cli.Command {
	return &cli.Command{
		Name: "board", Usage: "show rooms and members live, full screen", ArgsUsage: "[PATTERN]", Flags: serviceFlags(),
		Description: "Shows the rooms that match the pattern, and the members of the chosen room. Arrows choose, s sorts, / filters, q quits.\n\nExample: tovik board 'basin.*'",
		Action: func(ctx context.Context, c *cli.Command) error {
			pattern := cmp.Or(c.Args().First(), "**")
			if _, err := presence.ParsePattern(pattern); err != nil || c.Args().Len() > 1 {
				return usage("%s wants one room pattern at most, as in: %s 'basin.*'", c.FullName(), c.FullName())
			}
			out, ok := c.Root().Writer.(*os.File)
			if !ok || !term.IsTerminal(int(out.Fd())) {
				return usage("%s needs a terminal; tovik watch prints lines", c.FullName())
			}
			a, err := api(c)
			if err != nil {
				return err
			}
			if a.Key == "" {
				return &wire.Problem{Code: wire.CodeNoKey}
			}
			return runBoard(ctx, a, pattern, out)
		},
	}
}

// runBoard runs until the user quits, or the service refuses.
func runBoard(ctx context.Context, a client.API, pattern string, out *os.File) error {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	b := &board{ctx: ctx, api: a, screen: screenOf(out), rooms: map[string]wire.Count{}, width: 100, height: 30}
	program := tea.NewProgram(b, tea.WithContext(ctx), tea.WithoutSignalHandler(), tea.WithOutput(out))
	b.send = program.Send
	done := make(chan struct{})
	go func() {
		defer close(done)
		b.followCounts(pattern)
	}()
	_, err := program.Run()
	stop()
	<-done
	if b.refused != nil {
		return b.refused
	}
	if ctx.Err() != nil && err != nil {
		return nil // interrupted
	}
	return err
}

// board is the model of the screen. It belongs to the program's loop; news reaches it as
// messages.
type board struct {
	ctx    context.Context
	api    client.API
	screen screen
	send   func(tea.Msg)

	width, height int
	rooms         map[string]wire.Count
	order         string // of the rooms: byNames, byPeople
	filter        string
	filtering     bool
	chosen        string
	leave         context.CancelFunc // stops following the chosen room
	inside        inside
	feed          []string // events in the chosen room, newest last
	linked        bool
	refused       error
}

// The messages of the board.
type (
	roomCount struct { // a room's count
		room  string
		count wire.Count
	}
	inside struct { // the chosen room
		room    string
		members []wire.Member
		typing  []string
		happens []string
	}
	link    bool // whether there is a link
	refused struct{ error }
	second  time.Time // a second has passed, so times shown as "ago" change
)

func everySecond() tea.Cmd {
	return tea.Tick(time.Second, func(t time.Time) tea.Msg { return second(t) })
}

// Init implements [tea.Model].
func (b *board) Init() tea.Cmd { return everySecond() }

// followCounts sends the counts of all rooms, until the context ends.
func (b *board) followCounts(pattern string) {
	follower := client.Follow(client.Options{Server: b.api.Server, Key: b.api.Key, Watch: []wire.Watch{{Room: pattern, Detail: wire.DetailCount}}})
	for change, err := range follower.Changes(b.ctx) {
		switch change := change.(type) {
		case nil:
			b.send(refused{err})
		case client.Event:
			b.send(roomCount{change.Room, change.Count})
		case client.Linked:
			b.send(link(true))
		case client.Lost:
			b.send(link(false))
		}
	}
}

// followRoom sends the members of a room.
func (b *board) followRoom(ctx context.Context, room string) {
	follower := client.Follow(client.Options{Server: b.api.Server, Key: b.api.Key, Watch: []wire.Watch{{Room: room, Detail: wire.DetailMembers}}})
	for change, err := range follower.Changes(ctx) {
		if err != nil {
			return // the counts show that
		}
		told := inside{room: room, members: follower.Members(room), typing: slices.Clone(follower.Typing(room))}
		if event, ok := change.(client.Event); ok && !event.Whole {
			told.happens = happenings(event)
		}
		b.send(told)
	}
}

// happenings returns a line for each event of a change.
func happenings(e client.Event) (lines []string) {
	at := clock(e.At)
	for _, m := range e.Joined {
		lines = append(lines, fmt.Sprintf("%s  %s joined", at, displayName(m.Name, m.User)))
	}
	for _, m := range e.Changed {
		lines = append(lines, fmt.Sprintf("%s  %s is %s, with %s", at, displayName(m.Name, m.User), statusWord(m), phrase.Count(m.Sessions, "session")))
	}
	for _, m := range e.Doing {
		lines = append(lines, fmt.Sprintf("%s  %s: %s", at, displayName(m.Name, m.User), orDash(string(m.Doing))))
	}
	for _, d := range e.Left {
		lines = append(lines, fmt.Sprintf("%s  %s left%s", at, displayName(d.Was.Name, d.User), why(d.Departed)))
	}
	return lines
}

// Update implements [tea.Model].
func (b *board) Update(m tea.Msg) (tea.Model, tea.Cmd) {
	switch m := m.(type) {
	case tea.WindowSizeMsg:
		b.width, b.height = m.Width, m.Height
	case tea.KeyPressMsg:
		return b, b.key(m)
	case roomCount:
		if b.rooms[m.room] = m.count; m.count.People == 0 {
			delete(b.rooms, m.room)
		}
		if b.chosen == "" {
			b.choose(m.room)
		}
	case inside:
		if m.room == b.chosen {
			b.inside = m
			b.feed = append(b.feed, m.happens...)
			b.feed = b.feed[max(0, len(b.feed)-50):]
		}
	case link:
		b.linked = bool(m)
	case refused:
		b.refused = m.error
		return b, tea.Quit
	case second:
		return b, everySecond()
	}
	return b, nil
}

func (b *board) key(k tea.KeyPressMsg) tea.Cmd {
	if b.filtering {
		switch k.String() {
		case "enter":
			b.filtering = false
		case "esc":
			b.filtering, b.filter = false, ""
		case "backspace":
			if letters := []rune(b.filter); len(letters) > 0 {
				b.filter = string(letters[:len(letters)-1])
			}
		case "ctrl+c":
			return tea.Quit
		default:
			b.filter += k.Text
		}
		return nil
	}
	switch k.String() {
	case "q", "ctrl+c", "esc":
		return tea.Quit
	case "up", "k":
		b.move(-1)
	case "down", "j":
		b.move(1)
	case "pgup":
		b.move(-b.rows())
	case "pgdown":
		b.move(b.rows())
	case "home", "g":
		b.move(-len(b.rooms))
	case "end", "G":
		b.move(len(b.rooms))
	case "s":
		if b.order = "people"; strings.HasPrefix(b.sorted(), "by people") {
			b.order = ""
		}
	case "/":
		b.filtering = true
	}
	return nil
}

func (b *board) sorted() string {
	if b.order == "people" {
		return "by people"
	}
	return "by name"
}

// names returns the names of the shown rooms, in order.
func (b *board) names() []string {
	var names []string
	for name := range b.rooms {
		if strings.Contains(name, b.filter) {
			names = append(names, name)
		}
	}
	slices.SortFunc(names, func(x, y string) int {
		if b.order == "people" {
			if c := cmp.Compare(b.rooms[y].People, b.rooms[x].People); c != 0 {
				return c
			}
		}
		return strings.Compare(x, y)
	})
	return names
}

func (b *board) move(by int) {
	names := b.names()
	if len(names) == 0 {
		return
	}
	at := slices.Index(names, b.chosen) + by
	b.choose(names[min(max(at, 0), len(names)-1)])
}

func (b *board) choose(room string) {
	if room == b.chosen {
		return
	}
	if b.leave != nil {
		b.leave()
	}
	b.chosen, b.inside, b.feed = room, inside{}, nil
	ctx, leave := context.WithCancel(b.ctx)
	b.leave = leave
	if b.send != nil {
		go b.followRoom(ctx, room)
	}
}

// rows returns how many rooms fit on the screen.
func (b *board) rows() int { return max(3, b.height-5) }

// View implements [tea.Model].
func (b *board) View() tea.View {
	view := tea.NewView(b.draw())
	view.AltScreen = true
	return view
}

func (b *board) draw() string {
	left := min(54, b.width*9/20)
	right := b.width - left - 3
	state := b.screen.status("live")
	if !b.linked {
		state = b.screen.paint(bad, "no link; it is being made again, and what stands here may be old")
	}
	head := b.screen.paint(bold, "Tovik") + b.screen.paint(quiet, " at "+b.api.Server) + "   " + phrase.Count(len(b.rooms), "room") + "   " + state
	rooms, members := b.roomLines(left), b.memberLines(right)
	lines := []string{ansi.Truncate(head, b.width, "…"), ""}
	for i := range b.rows() {
		lines = append(lines, pad(line1(rooms, i), left)+b.screen.paint(quiet, " │ ")+ansi.Truncate(line1(members, i), right, "…"))
	}
	foot := fmt.Sprintf("↑ ↓ choose   s sort (%s)   / filter   q end", b.sorted())
	if b.filtering || b.filter != "" {
		foot = "filter: " + b.filter
		if b.filtering {
			foot += "▏  enter keeps it, esc drops it"
		} else {
			foot += "   / changes it   q ends"
		}
	}
	return strings.Join(append(lines, "", b.screen.paint(quiet, ansi.Truncate(foot, b.width, "…"))), "\n")
}

func line1(lines []string, i int) string {
	if i < len(lines) {
		return lines[i]
	}
	return ""
}

func pad(text string, width int) string {
	text = ansi.Truncate(text, width, "…")
	return text + strings.Repeat(" ", max(0, width-ansi.StringWidth(text)))
}

// statusMarks precede the words, so that nothing depends on colour alone: a staff gauge that is
// full, low, filled in its upper half, or empty.
var statusMarks = map[string]string{"online": "▇", "away": "▂", "busy": "▀", "offline": "▁"}

// counts is the width of the counts of a room.
const counts = 27

func (b *board) roomLines(width int) []string {
	lines := []string{b.screen.paint(bold, pad("  ROOM", width-counts)) + b.screen.paint(bold, fmt.Sprintf("%7s%8s%6s%6s", "PEOPLE", "ONLINE", "AWAY", "BUSY"))}
	names := b.names()
	place := b.rows() - 1
	from := max(0, min(slices.Index(names, b.chosen)-place/2, len(names)-place))
	for _, name := range names[from:min(len(names), from+place)] {
		count := b.rooms[name]
		text := fmt.Sprintf("%s%7d%8d%6d%6d", pad("  "+name, width-counts), count.People, count.Online.People, count.Away.People, count.Busy.People)
		if name == b.chosen {
			text = b.screen.paint(bold.Reverse(true), "▸ "+strings.TrimPrefix(text, "  "))
		}
		lines = append(lines, text)
	}
	if len(names) == 0 {
		lines = append(lines, "  Nobody is in a room that is shown here.")
	}
	return lines
}

func (b *board) memberLines(width int) []string {
	if b.chosen == "" {
		return nil
	}
	count := b.rooms[b.chosen]
	lines := []string{b.screen.paint(bold, b.chosen) + "  " + counted(count)}
	feed := min(len(b.feed), max(3, b.rows()/4))
	place := b.rows() - feed - 3
	for i, m := range b.inside.members {
		if i == place-1 && len(b.inside.members) > place {
			lines = append(lines, fmt.Sprintf("  and %d more", len(b.inside.members)-i))
			break
		}
		text := b.screen.paint(statusColours[m.Status], fmt.Sprintf("%s %-7s", statusMarks[m.Status], m.Status)) + " " + pad(named(m.Name, m.User), min(34, width/2)) + "  " + strings.TrimSuffix(ago(time.Since(m.Since.Time)), " ago")
		if m.Sessions > 1 {
			text += "  " + phrase.Count(m.Sessions, "session")
		}
		if slices.Contains(b.inside.typing, m.User) {
			text += "  " + b.screen.paint(bold, "typing …")
		}
		lines = append(lines, text)
	}
	if count.People > 0 && len(b.inside.members) == 0 {
		lines = append(lines, "  …")
	}
	for len(lines) < b.rows()-feed-1 {
		lines = append(lines, "")
	}
	for _, text := range b.feed[len(b.feed)-feed:] {
		lines = append(lines, b.screen.paint(quiet, text))
	}
	return lines
}

var _ tea.Model = (*board)(nil)

// statusWord returns the status of a member, in the application's word if there is one.
func statusWord(m wire.Member) string {
	switch {
	case m.Label != "":
		return m.Status + " (" + m.Label + ")"
	case m.Engaged:
		return m.Status + " (engaged)"
	}
	return m.Status
}
