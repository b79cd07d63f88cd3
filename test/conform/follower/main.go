// Command follower is the Go client as a program for tovik conform.
package main

import (
	"bufio"
	"context"
	"encoding/json"
	"io"
	"net/http"
	"os"

	"tovik.example/tovik/client"
	"tovik.example/tovik/wire"
)

func main() {
	room, state := os.Getenv("ROOM"), os.Getenv("STATE")
	members := map[string]bool{}
	report := func(is string) {
		list := []string{}
		for user := range members {
			list = append(list, user)
		}
		_ = json.NewEncoder(os.Stdout).Encode(map[string]any{"state": is, "members": list})
	}
	token := func(context.Context) (string, error) {
		response, err := http.Get(os.Getenv("TOKENS"))
		if err != nil {
			return "", err
		}
		defer response.Body.Close()
		text, err := io.ReadAll(response.Body)
		return string(text), err
	}
	var resume *wire.Resume
	if text, err := os.ReadFile(state); err == nil {
		_ = json.Unmarshal(text, &resume)
	}
	follower := client.Follow(client.Options{Server: os.Getenv("SERVER"), NewToken: token, Rooms: []string{room}, Resume: resume})
	ctx, stop := context.WithCancel(context.Background())
	defer stop()
	go func() {
		for lines := bufio.NewScanner(os.Stdin); lines.Scan(); {
			if lines.Text() == "bye" {
				_ = follower.Link().Bye(ctx)
				_ = os.Remove(state)
				stop()
			}
		}
	}()
	report("connecting")
	for change, err := range follower.Changes(ctx) {
		if err != nil {
			report("refused")
			select {}
		}
		switch change := change.(type) {
		case client.Linked:
			text, _ := json.Marshal(wire.Resume{Session: change.Opened.Session, ResumeKey: change.Opened.ResumeKey})
			_ = os.WriteFile(state, text, 0o600)
			report("open")
		case client.Lost:
			report("lost")
		case client.Event:
			if change.Room != room {
				continue
			}
			for _, m := range change.Joined {
				members[m.User] = true
			}
			for _, m := range change.Changed {
				members[m.User] = true
			}
			for _, d := range change.Left {
				delete(members, d.User)
			}
			report("open")
		case wire.Drop:
			clear(members)
			report("open")
		}
	}
	report("closed")
	select {}
}
