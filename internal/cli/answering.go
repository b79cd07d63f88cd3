package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"slices"
	"strings"
	"time"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/wire"
)

// answering is what a visit knows of asks and invitations, to be answered from the terminal.
type answering struct {
	asks        []wire.Ask
	invitations wire.Invitations
}

const visitHelp = "/admit, /admit all, /refuse: answer who asks. /invite USER ROOM. /accept, /decline: answer an invitation. /withdraw. /doing JSON. /help."

// heard takes what is told of asks and invitations, and returns what to print.
func (a *answering) heard(change client.Change) (lines []string) {
	say := func(format string, args ...any) { lines = append(lines, fmt.Sprintf(format, args...)) }
	switch change := change.(type) {
	case wire.AsksFrame:
		for _, ask := range change.Asks {
			if !slices.ContainsFunc(a.asks, func(known wire.Ask) bool { return known.Ask == ask.Ask }) {
				say("%s asks to be let in: /admit or /refuse.", named(ask.Name, ask.User))
			}
		}
		a.asks = change.Asks
	case wire.AskFrame:
		say("Your ask %s.", outcomeWords(change.Outcome))
		if change.Again != nil {
			say("You may ask again %s.", day(change.Again))
		}
	case wire.Invitations:
		for _, i := range change.Received {
			if !slices.ContainsFunc(a.invitations.Received, func(known wire.Invitation) bool { return known.Invitation == i.Invitation }) {
				say("%s invites you to %s: /accept or /decline.", named(i.From.Name, i.From.User), i.Room)
			}
		}
		a.invitations = change
	case wire.InvitationFrame:
		say("The invitation of %s to %s %s.", named(change.To.Name, change.To.User), change.Room, wire.Outcomes[change.Outcome])
	}
	return lines
}

func outcomeWords(outcome string) string {
	switch outcome {
	case "admitted":
		return "was answered: you are in"
	case "refused":
		return "was answered: you are not let in"
	}
	return wire.Outcomes[outcome]
}

// command carries out a line that begins with a slash, and returns what to print.
func (a *answering) command(ctx context.Context, link *client.Link, room, line string) (string, error) {
	word, rest, _ := strings.Cut(strings.TrimPrefix(line, "/"), " ")
	words := strings.Fields(rest)
	switch {
	case word == "help":
		return visitHelp, nil
	case word == "admit" && rest == "all":
		admitted, not, err := link.AdmitAll(ctx, room)
		return fmt.Sprintf("%s let in, %d still ask.", phrase.Count(admitted, "person"), not), err
	case (word == "admit" || word == "refuse") && len(a.asks) == 0:
		return "Nobody asks.", nil
	case word == "admit":
		return "They are in.", link.Admit(ctx, a.asks[0].Ask)
	case word == "refuse":
		return "They are refused.", link.Refuse(ctx, a.asks[0].Ask)
	case word == "invite" && len(words) == 2:
		_, err := link.Invite(ctx, words[0], words[1])
		return "They are invited.", err
	case (word == "accept" || word == "decline") && len(a.invitations.Received) == 0:
		return "Nobody has invited you.", nil
	case word == "accept":
		room, err := link.Accept(ctx, a.invitations.Received[0].Invitation)
		return "You are in " + room + ", too.", err
	case word == "decline":
		return "You have declined.", link.Decline(ctx, a.invitations.Received[0].Invitation)
	case word == "withdraw" && len(a.invitations.Sent) == 0:
		return "You have invited nobody.", nil
	case word == "withdraw":
		return "It is withdrawn.", link.Withdraw(ctx, a.invitations.Sent[0].Invitation)
	case word == "doing" && json.Valid([]byte(rest)):
		return "Others see it.", link.Doing(ctx, room, json.RawMessage(rest))
	}
	return visitHelp, nil
}

// commandTimeout limits a command of the terminal.
const commandTimeout = 10 * time.Second
