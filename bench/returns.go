//go:build linux

package main

import (
	"context"
	"fmt"
	"os"
	"time"

	"tovik.example/tovik/bench/load"
	"tovik.example/tovik/client"
)

// returns measures how soon all links are back after the service was killed and started again, against as many bare
// handshakes. Each must get its session back, and nobody may be seen to leave.
func (s *stage) returns(r results) {
	links := pick(s, 15_000, 1000)
	const atOnce = 256
	floor, address := startFloor()
	bare, connected := startCrowd(load.Plan{Address: address, Source: "127.0.0.4", Path: "/link", Links: links, At: atOnce})
	bare.stop()
	floor.stop()
	r["floor_back_s"] = connected.Connected.Seconds()

	dir := must(os.MkdirTemp(s.dir, "back-"))
	service, address := s.startService(dir)
	c, _ := startCrowd(load.Plan{Address: address, Source: "127.0.0.2", Path: "/v1/link", Links: links, Hellos: s.hellos(links), At: atOnce})
	defer c.stop()
	// A session is on disk a moment after its hello is answered.
	time.Sleep(time.Second)
	_ = must(client.API{Server: "http://" + address, Key: key}.People(context.Background(), "", "", 1)) // waits until all are on record
	check(service.cmd.Process.Kill())
	_ = service.cmd.Wait()
	service, address = s.startService(dir)
	defer service.stop()
	api := client.API{Server: "http://" + address, Key: key}
	for {
		if _, err := api.Ready(context.Background()); err == nil {
			break
		}
		time.Sleep(time.Millisecond)
	}
	back := c.tell(order{Do: "return", Plan: &load.Plan{Address: address}})
	r["back_s"] = back.Connected.Seconds()
	left := must(api.Journal(context.Background(), client.JournalQuery{Kinds: []string{"member.left"}}))
	if back.Resumed != links || len(left.Entries) > 0 {
		check(fmt.Errorf("of %d links %d got their sessions back, and %d were seen to leave", links, back.Resumed, len(left.Entries)))
	}
}
