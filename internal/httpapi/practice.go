package httpapi

import (
	"crypto/rand"
	"strings"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/presence"
	"tovik.example/tovik/internal/strictjson"
	"tovik.example/tovik/wire"
)

// practiceRooms is the prefix of practice rooms. Each visit of the practice page has a room of
// its own.
const practiceRooms = "practice."

// PracticePolicies are the policies of the rooms besides a practice room in which one can ask to
// be let in, and be engaged.
func PracticePolicies(p *presence.Policy) []presence.PatternPolicy {
	gate, call := p.RoomPolicy, p.RoomPolicy
	gate.Entry, call.Engages = presence.EntryAsk, true
	return []presence.PatternPolicy{{Pattern: practiceRooms + "*.gate", RoomPolicy: gate}, {Pattern: practiceRooms + "*.call", RoomPolicy: call}}
}

// practicePeople are the people in practice rooms. None of them is in the demo.
var practicePeople = []client.Token{
	{User: "wystan", Name: "Wystan Leat"},
	{User: "isbel", Name: "Isbel Osierbed"},
	{User: "cuthwin", Name: "Cuthwin Sallow"},
	{User: "rhosyn", Name: "Rhosyn Penstock"},
}

// practice answers with the tokens of a practice room: a new one, or one that the page already
// has. It needs no key.
func (a *API) practice(c fiber.Ctx) error {
	if a.practiceSecret == "" {
		return &wire.Problem{Code: wire.CodeNoPractice, Detail: "this service offers no practice room", Allowed: "tovik serve --practice"}
	}
	var asked struct {
		Room string `json:"room"`
	}
	if err := strictjson.Read(c.Body(), &asked); err != nil {
		return err
	}
	if asked.Room == "" {
		asked.Room = practiceRooms + strings.ToLower(rand.Text()[:10])
	}
	room, err := presence.ParseRoom(asked.Room)
	if err != nil {
		return err
	}
	if !strings.HasPrefix(asked.Room, practiceRooms) || strings.Count(asked.Room, ".") > 1 || len(asked.Room) > 40 {
		return &wire.Problem{Code: wire.CodeBadField, Field: "room", Value: wire.Shorten(asked.Room),
			Detail: "this is not a practice room", Allowed: "no room, for a new one; or a room from an earlier answer"}
	}
	offer := wire.Practice{Room: string(room), Gate: string(room) + ".gate", Call: string(room) + ".call", People: []wire.Player{}}
	own := []string{offer.Room, offer.Gate, offer.Call}
	for i, token := range practicePeople {
		token.User += "-" + strings.TrimPrefix(string(room), practiceRooms)
		token.Grants = wire.Grants{Rooms: own, Cue: own, Hide: true, Invite: []string{offer.Call}}
		if i == 0 {
			token.Grants.Admit = []string{offer.Gate}
		}
		text, err := token.Sign(a.practiceSecret)
		if err != nil {
			return err
		}
		offer.People = append(offer.People, wire.Player{User: token.User, Name: token.Name, Token: text})
	}
	return fresh(c).JSON(offer)
}
