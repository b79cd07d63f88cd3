package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/fasthttp/websocket"
	"github.com/urfave/cli/v3"

	"tovik.example/tovik/client"
	"tovik.example/tovik/internal/phrase"
	"tovik.example/tovik/wire"
)

// symptom is a finding of the doctor.
type symptom struct {
	What   string `json:"what"`
	Found  string `json:"found"`
	State  string `json:"state"`            // well, see below, or not known
	Advice string `json:"advice,omitempty"` // what to change; empty if nothing
}

func doctorCommand() *cli.Command {
	return &cli.Command{
		Name: "doctor", Usage: "check a service and the connection to it", Flags: clientFlags(dataFlag("", "; looked at when it is named")),
		Description: "Checks the connection as clients use it: whether the service answers and is ready, the difference of the clocks, whether WebSockets pass, whether a proxy delays streams; " +
			"at the descriptors that this machine allows; and with --data at the disk. Says what to change, and exits with 1 when there is something.\n\nExample: tovik doctor",
		Action: func(ctx context.Context, c *cli.Command) error {
			if err := noArguments(c); err != nil {
				return err
			}
			a, err := api(c)
			if err != nil {
				return err
			}
			d := &doctor{api: a, http: &http.Client{Timeout: 10 * time.Second}}
			if err := d.service(ctx); err != nil {
				return err
			}
			d.sockets(ctx)
			d.streams(ctx)
			d.key(ctx)
			d.quotas(ctx)
			d.nodes(ctx)
			d.descriptors()
			if dir := c.String("data"); dir != "" {
				d.disk(dir)
			}
			ill := 0
			for _, s := range d.found {
				if s.Advice != "" {
					ill++
				}
			}
			if err := listing(c, d.found, d.found, func(w io.Writer) {
				_, _ = fmt.Fprintln(w, "WHAT\tFOUND\tSTATE")
				for _, s := range d.found {
					_, _ = fmt.Fprintf(w, "%s\t%s\t%s\n", s.What, s.Found, s.State)
				}
				for _, s := range d.found {
					if s.Advice != "" {
						_, _ = fmt.Fprintf(w, "\n%s:\n  %s\n", s.What, s.Advice)
					}
				}
			}); err != nil {
				return err
			}
			if ill > 0 {
				return &failure{exitFailed, fmt.Sprintf("%s found", phrase.Count(ill, "problem"))}
			}
			return nil
		},
	}
}

type doctor struct {
	api   client.API
	http  *http.Client
	found []symptom
}

func (d *doctor) note(what, found, advice string) {
	state := "well"
	if advice != "" {
		state = "see below"
	}
	d.found = append(d.found, symptom{what, found, state, advice})
}

// skip notes a check that could not be made.
func (d *doctor) skip(what, found string) {
	d.found = append(d.found, symptom{What: what, Found: found, State: "not known"})
}

// clockApart is the largest harmless difference between clocks: tokens are valid from and until
// a time.
const clockApart = 5 * time.Second

// service checks /readyz, its response time, and the clock. It returns an error if there is no
// service.
func (d *doctor) service(ctx context.Context) error {
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, d.api.Server+"/readyz", nil)
	if err != nil {
		return err
	}
	began := time.Now()
	response, err := d.http.Do(request)
	if err != nil {
		return err
	}
	_ = response.Body.Close()
	took := time.Since(began)
	ready, err := d.api.Ready(ctx)
	switch {
	case err != nil:
		d.note("service", err.Error(), "It is starting or stopping, or something else answers at this address.")
	case ready.Records.Status != "ok":
		d.note("records", ready.Records.Error, "The records cannot be written; presence goes on. Make place on the disk, or see who else holds the file.")
	default:
		d.note("service", fmt.Sprintf("ready, answers in %s", phrase.Lasting(took)), "")
		d.note("records", "can be written", "")
	}
	if at, err := http.ParseTime(response.Header.Get("Date")); err == nil {
		// The header has whole seconds, so the true time is up to a second later.
		apart := at.Add(500 * time.Millisecond).Sub(began.Add(took / 2)).Round(time.Second)
		advice := ""
		if apart.Abs() > clockApart {
			advice = fmt.Sprintf("The clocks differ by %s, so tokens may be refused. Synchronise both machines (NTP).", phrase.Lasting(apart.Abs()))
		}
		d.note("clock", cmp.Or(map[bool]string{true: "the same as here"}[apart.Abs() <= time.Second], fmt.Sprintf("%s from here", phrase.Lasting(apart.Abs()))), advice)
	}
	return nil
}

// sockets checks whether a WebSocket passes.
func (d *doctor) sockets(ctx context.Context) {
	address := "ws" + strings.TrimPrefix(d.api.Server, "http") + "/v1/link"
	conn, response, err := (&websocket.Dialer{HandshakeTimeout: 10 * time.Second}).DialContext(ctx, address, nil)
	if err != nil {
		found := err.Error()
		if response != nil {
			found = response.Status
		}
		d.note("websocket", found, "WebSockets do not pass; clients fall back to event streams and HTTP beats. A proxy has to hand on the headers Upgrade and Connection, over HTTP/1.1: see docs/operations.md for nginx and Caddy.")
		return
	}
	defer func() { _ = conn.Close() }()
	_ = conn.SetReadDeadline(time.Now().Add(10 * time.Second))
	err = conn.WriteMessage(websocket.TextMessage, []byte(`{"type":"beat","id":1}`)) // refused, because hello must come first
	if err == nil {
		_, _, err = conn.ReadMessage()
	}
	if err != nil {
		d.note("websocket", "opens, but carries nothing: "+err.Error(), "Something on the way accepts the handshake and keeps the frames. Look at its limits and its inspection of WebSockets.")
		return
	}
	d.note("websocket", "passes", "")
}

// streams checks whether streamed data arrives at once.
func (d *doctor) streams(ctx context.Context) {
	ctx, cancel := context.WithTimeout(ctx, 5*time.Second)
	defer cancel()
	request, err := http.NewRequestWithContext(ctx, http.MethodGet, d.api.Server+"/v1/journal", nil)
	if err != nil {
		return
	}
	request.Header.Set("Authorization", "Bearer "+d.api.Key)
	request.Header.Set("Accept", "text/event-stream")
	response, err := http.DefaultTransport.RoundTrip(request)
	if err == nil {
		defer func() { _ = response.Body.Close() }()
		if response.StatusCode != http.StatusOK {
			d.skip("streams", "not looked at, for the key is not taken")
			return
		}
		_, err = io.ReadAtLeast(response.Body, make([]byte, 1), 1)
	}
	switch {
	case errors.Is(err, context.DeadlineExceeded):
		d.note("streams", "nothing came in 5 s", "A proxy holds back what is streamed until it has much of it. Switch its buffering off for /v1/feed and for text/event-stream: see docs/operations.md.")
	case err != nil:
		d.note("streams", err.Error(), "The stream broke off at once. Look at the proxy on the way.")
	default:
		d.note("streams", "come at once", "")
	}
}

func (d *doctor) key(ctx context.Context) {
	_, err := d.api.RoomsPage(ctx, client.RoomsQuery{Limit: 1})
	var problem *wire.Problem
	switch {
	case errors.As(err, &problem):
		text, _ := wordsForProblem(problem)
		d.note("key", problem.Code, strings.ToUpper(text[:1])+text[1:]+".")
	case err != nil:
		d.note("key", err.Error(), "The service answers otherwise than Tovik does. Look at the address.")
	default:
		d.note("key", "is taken", "")
	}
}

// quotas checks how much of its quotas the realm uses.
func (d *doctor) quotas(ctx context.Context) {
	doc, err := d.api.Usage(ctx, "day", time.Time{}, time.Time{})
	if err != nil {
		return // the key is wrong, which was said, or limited to some rooms
	}
	for _, q := range doc.Quotas {
		advice := ""
		if q.Near {
			advice = fmt.Sprintf("Once it is used up, what is new is refused. Raise quota.%s of the realm %s in the configuration, or set it to 0.", q.Quota, doc.Realm)
		}
		d.note("quota of "+q.Quota, fmt.Sprintf("%d of %d used", q.Used, q.Limit), advice)
	}
}

// fewBehind is how many records a healthy node may lag behind the log, and fullLog how much of the log's space
// may be used.
const (
	fewBehind = 1000
	fullLog   = 0.8
)

// nodes checks the nodes of a cluster, if the service is one and the key may see them.
func (d *doctor) nodes(ctx context.Context) {
	list, err := d.api.Nodes(ctx)
	var problem *wire.Problem
	switch {
	case errors.As(err, &problem) && problem.Code == wire.CodeAlone:
		return
	case err != nil:
		d.skip("nodes", "only the service's own key may see them")
		return
	}
	versions := map[string]bool{}
	for _, n := range list.Nodes {
		found, advice := n.State, ""
		switch {
		case n.State == wire.NodeAway:
			advice = fmt.Sprintf("%s says: %s. Look at its log, and at the network between the nodes.", list.Asked, n.Because)
		case n.State != wire.NodeReady:
			advice = n.Because + "."
		case len(cutOff(list, n)) > 0:
			found, advice = "does not hear "+phrase.List(cutOff(list, n)), "Look at the network between these nodes."
		case n.Behind > fewBehind:
			found, advice = fmt.Sprintf("%d records behind the log", n.Behind), "Its disk or processor is too slow for what the cluster records."
		}
		if n.State != wire.NodeAway {
			versions[n.Version] = true
		}
		d.note("node "+n.Node, found, advice)
	}
	log := list.Log
	advice := ""
	switch {
	case log.Current == 0:
		advice = "Most of what keeps the log is away: the nodes of cluster.log_nodes, or the servers of cluster.broker. Start them. Nothing is recorded meanwhile."
	case log.Current < log.Copies:
		advice = "What keeps a copy is away, or has not caught up. If another one fails too, the cluster may stop until one is back."
	case float64(log.Bytes) > fullLog*float64(log.Most):
		advice = "The log is almost full and will drop its oldest records before they are a day old. A node that is away until then needs a backup of another one."
	}
	d.note("log", fmt.Sprintf("%d of %s complete, %s", log.Current, phrase.Count(log.Copies, "copy"), phrase.Size(log.Bytes)), advice)
	if len(versions) > 1 {
		d.note("versions", "nodes run "+phrase.List(slices.Sorted(maps.Keys(versions))), "Finish the upgrade: one node after the other, see docs/cluster.md.")
	}
}

// fewDescriptors is a limit with which a service is soon full: each link takes one.
const fewDescriptors = 16_384

func (d *doctor) descriptors() {
	limit, err := descriptorLimit()
	if err != nil {
		d.skip("descriptors", "this system does not say")
		return
	}
	advice := ""
	if limit < fewDescriptors {
		advice = fmt.Sprintf("A service started here can have about %d links at once. Raise the limit of descriptors (ulimit -n, or LimitNOFILE= of its systemd unit).", limit-200)
	}
	d.note("descriptors", fmt.Sprintf("%d allowed for a process started here", limit), advice)
}

// littlePlace is the least free space for the records.
const littlePlace = 1 << 30

// disk checks the directory of the records: whether it can be written, how fast it syncs, and
// how much space is free.
func (d *doctor) disk(dir string) {
	file, err := os.CreateTemp(dir, "doctor-*")
	if err != nil {
		d.note("disk", err.Error(), "The directory of the records cannot be written. Make it, and let the service's user own it.")
		return
	}
	defer func() { _ = os.Remove(file.Name()) }()
	began := time.Now()
	_, err = file.Write(make([]byte, 4096))
	if err = errors.Join(err, file.Sync(), file.Close()); err != nil {
		d.note("disk", err.Error(), "Nothing can be settled on this disk.")
		return
	}
	took, advice := time.Since(began), ""
	if took > 200*time.Millisecond {
		advice = "Changes that must survive are synced to the disk before they are answered, and this disk is slow. Keep the records on another disk."
	}
	d.note("disk", fmt.Sprintf("settles a write in %s", phrase.Lasting(took)), advice)
	if free, err := freeSpace(dir); err == nil {
		advice := ""
		if free < littlePlace {
			advice = "When the disk is full nothing is recorded; presence goes on. Make place, or keep less: [keep] in tovik.toml."
		}
		d.note("place", fmt.Sprintf("%.1f GB free", float64(free)/(1<<30)), advice)
	}
	if info, err := os.Stat(filepath.Join(dir, "tovik.db")); err == nil {
		d.note("records' size", fmt.Sprintf("%.1f MB", float64(info.Size())/(1<<20)), "")
	}
}
