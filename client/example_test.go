package client_test

import (
	"context"
	"fmt"
	"log"
	"time"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/server"
	"tovik.example/tovik/wire"
)

// service starts a service for an example, and returns a function that mints tokens as its back
// end would.
func service() (url string, token func(user, name string) string, stop func()) {
	const secret = "the secret of a service that lives for one example"
	s, err := server.Start(server.Config{Listen: "127.0.0.1:0", TokenSecret: secret, OperatorKey: "key"})
	if err != nil {
		log.Fatal(err)
	}
	token = func(user, name string) string {
		all := []string{"**"}
		text, err := client.Token{User: user, Name: name, Grants: wire.Grants{Rooms: all, Cue: all}}.Sign(secret)
		if err != nil {
			log.Fatal(err)
		}
		return text
	}
	return s.URL(), token, func() { _ = s.Stop() }
}

// A person takes part in a room and is told about others.
func ExampleDial() {
	url, token, stop := service()
	defer stop()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()

	came := make(chan string, 10)
	ilse, err := client.Dial(ctx, client.Options{
		Server: url, Token: token("e-01", "Ilse Marrow"), Rooms: []string{"desk.night"},
		OnEvent: func(e client.Event) {
			for _, m := range e.Joined {
				came <- fmt.Sprintf("%s is in %s", m.Name, e.Room)
			}
		},
	})
	if err != nil {
		log.Fatal(err)
	}
	defer ilse.Close()
	fmt.Println(<-came)

	corin, err := client.Dial(ctx, client.Options{Server: url, Token: token("w-04", "Corin Alderby"), Rooms: []string{"desk.night"}})
	if err != nil {
		log.Fatal(err)
	}
	defer corin.Close()
	fmt.Println(<-came)
	// Output:
	// Ilse Marrow is in desk.night
	// Corin Alderby is in desk.night
}

// A lost link recovers: the session is the same, and no change is missed.
func ExampleLink_Resume() {
	url, token, stop := service()
	defer stop()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()

	whole := make(chan struct{}, 10)
	options := client.Options{
		Server: url, Token: token("e-01", "Ilse Marrow"), Rooms: []string{"desk.night"}, Nonce: "this run",
		OnEvent: func(client.Event) { whole <- struct{}{} },
	}
	link, err := client.Dial(ctx, options)
	if err != nil {
		log.Fatal(err)
	}
	<-whole
	link.Close() // as when the network is gone

	options.Resume, options.After = link.Resume(), link
	again, err := client.Dial(ctx, options)
	if err != nil {
		log.Fatal(err)
	}
	defer again.Close()
	fmt.Println(again.Opened().Resumed, again.Opened().Revs["desk.night"])
	// Output: true current
}

// A cue goes to the others in a room. It is not stored.
func ExampleLink_Cue() {
	url, token, stop := service()
	defer stop()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()

	cues := make(chan wire.CueFrame, 1)
	corin, err := client.Dial(ctx, client.Options{Server: url, Token: token("w-04", "Corin Alderby"), Rooms: []string{"desk.night"},
		OnCue: func(cue wire.CueFrame) { cues <- cue }})
	if err != nil {
		log.Fatal(err)
	}
	defer corin.Close()
	ilse, err := client.Dial(ctx, client.Options{Server: url, Token: token("e-01", "Ilse Marrow"), Rooms: []string{"desk.night"}})
	if err != nil {
		log.Fatal(err)
	}
	defer ilse.Close()

	links, err := ilse.Cue(ctx, wire.Request{Room: "desk.night", Name: "wave"})
	if err != nil {
		log.Fatal(err)
	}
	cue := <-cues
	fmt.Println(links, cue.From.User, cue.Name)
	// Output: 1 e-01 wave
}

// A back end reads counts over HTTP.
func ExampleAPI() {
	url, token, stop := service()
	defer stop()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()

	for range 2 { // one person with two tabs
		link, err := client.Dial(ctx, client.Options{Server: url, Token: token("e-01", "Ilse Marrow"), Rooms: []string{"desk.night"}})
		if err != nil {
			log.Fatal(err)
		}
		defer link.Close()
	}
	count, err := client.API{Server: url, Key: "key"}.Count(ctx, "desk.night")
	if err != nil {
		log.Fatal(err)
	}
	fmt.Println(count.People, "person,", count.Sessions, "sessions")
	// Output: 1 person, 2 sessions
}

// A watcher keeps a list current, even across a lost link.
func ExampleFollow() {
	url, token, stop := service()
	defer stop()
	ctx, cancel := context.WithTimeout(context.Background(), 20*time.Second)
	defer cancel()
	ilse, err := client.Dial(ctx, client.Options{Server: url, Token: token("e-01", "Ilse Marrow"), Rooms: []string{"desk.night"}})
	if err != nil {
		log.Fatal(err)
	}
	defer ilse.Close()

	desk := client.Follow(client.Options{Server: url, Key: "key", Watch: []wire.Watch{{Room: "desk.night"}}})
	for change, err := range desk.Changes(ctx) {
		if err != nil {
			log.Fatal(err) // the service refused
		}
		switch change := change.(type) {
		case client.Linked:
			fmt.Println("linked")
		case client.Event:
			fmt.Println(change.Room, "has", len(desk.Members(change.Room)), "and", change.Joined[0].Name, "is", change.Joined[0].Status)
			if err := ilse.Typing(ctx, "desk.night", true); err != nil {
				log.Fatal(err)
			}
		case wire.TypingFrame:
			if len(change.Users) > 0 {
				fmt.Println(change.Users, "is typing")
				return
			}
		}
	}
	// Output:
	// linked
	// desk.night has 1 and Ilse Marrow is online
	// [e-01] is typing
}
