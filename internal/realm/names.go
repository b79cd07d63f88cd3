package realm

import (
	"golang.org/x/text/unicode/norm"

	"tovik.example/tovik/internal/presence"
)

// userOf checks a user id and normalises it to NFC. Its error is a [*presence.Refusal].
func userOf(text string) (presence.UserID, error) {
	user := presence.UserID(norm.NFC.String(text))
	return user, presence.CheckUser(user)
}

func usersOf(texts []string) ([]presence.UserID, error) {
	users := make([]presence.UserID, len(texts))
	for i, text := range texts {
		var err error
		if users[i], err = userOf(text); err != nil {
			return nil, err
		}
	}
	return users, nil
}

// normalized returns already checked user ids, in NFC.
func normalized(texts []string) []presence.UserID {
	users := make([]presence.UserID, len(texts))
	for i, text := range texts {
		users[i] = presence.UserID(norm.NFC.String(text))
	}
	return users
}

func roomNames(rooms []presence.RoomName) []string {
	names := make([]string, len(rooms))
	for i, room := range rooms {
		names[i] = string(room)
	}
	return names
}
