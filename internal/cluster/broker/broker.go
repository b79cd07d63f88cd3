package broker

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"log/slog"
	"slices"
	"strconv"
	"sync"
	"time"

	"github.com/nats-io/nats.go"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/coding"
)

// Options are the settings of a [Broker]. Conn, Cluster and Node are required.
type Options struct {
	Conn    *nats.Conn
	Cluster string // the prefix of everything
	Node    cluster.Name
	// Identity is that of the log of this node's records. If the broker has no log, it is made with this identity.
	// Without one, Open waits until another node has made the log, and takes its identity.
	Identity string
	// Replicas is how many nodes keep the log when it is made; 0: one.
	Replicas int
	// Tagged restricts the log to servers with ServerOptions.KeepsLog.
	Tagged   bool
	MaxBytes int64 // of the log; 0: 10 GB
	Log      *slog.Logger
}

// How long requests wait, and what the log keeps.
const (
	answerIn  = time.Second // an append or a read without an answer has an unknown outcome
	keepFor   = 24 * time.Hour
	maxBytes  = 10 << 30
	tableSize = 8 << 20
)

// Broker is the broker as one node reaches it.
type Broker struct {
	Options
	js       nats.JetStreamContext
	inFlight sync.WaitGroup

	mu     sync.Mutex
	first  cluster.Position // the oldest record that the log still has, as far as known
	looked time.Time        // when that was looked for last
	closed bool
}

// Open opens the log and the table, and makes them if there are none. It waits for a leader until ctx is done.
func Open(ctx context.Context, o Options) (*Broker, error) {
	if o.Replicas == 0 {
		o.Replicas = 1
	}
	if o.MaxBytes == 0 {
		o.MaxBytes = maxBytes
	}
	if o.Log == nil {
		o.Log = slog.New(slog.DiscardHandler)
	}
	o.Conn.SetErrorHandler(func(_ *nats.Conn, _ *nats.Subscription, err error) {
		o.Log.Warn("the broker reports an error", "error", err)
	})
	b := &Broker{Options: o}
	var err error
	if b.js, err = o.Conn.JetStream(nats.MaxWait(answerIn)); err != nil {
		return nil, err
	}
	var said error
	for {
		if err = b.open(); err == nil {
			return b, nil
		}
		if wrong := o.wrong(err); wrong != nil {
			return nil, wrong
		}
		if errors.Is(err, nats.ErrNoResponders) || errors.Is(err, nats.ErrJetStreamNotEnabled) {
			err = errNoStreams
		}
		if said == nil || said.Error() != err.Error() {
			o.Log.Info("waiting for the log", "error", err)
			said = err
		}
		select {
		case <-ctx.Done():
			return nil, fmt.Errorf("the log cannot be reached: %w (the last try: %w)", ctx.Err(), err)
		case <-time.After(answerIn / 4):
		}
	}
}

// mismatch says that what the broker has is not what was asked for.
type mismatch struct{ text string }

func (m *mismatch) Error() string { return m.text }

// wrong returns an error that waiting does not mend: the broker does not fit, or it refuses this node.
func (o *Options) wrong(err error) error {
	var is *mismatch
	refused := o.Conn.LastError()
	switch {
	case errors.As(err, &is):
		return is
	case errors.Is(refused, nats.ErrAuthorization), errors.Is(refused, nats.ErrPermissionViolation):
		return fmt.Errorf("the broker refuses this node: %w", refused)
	}
	return nil
}

const identityKey = "tovik-log"

func (b *Broker) open() error {
	if b.Identity == "" {
		switch _, err := b.js.StreamInfo(b.name("log")); {
		case errors.Is(err, nats.ErrStreamNotFound):
			return errNotBegun
		case err != nil:
			return err
		}
	}
	switch is := b.Conn.MaxPayload(); {
	case is == 0:
		return nats.ErrDisconnected
	case is < maxPayload:
		return &mismatch{fmt.Sprintf("the broker takes messages of at most %d bytes: set max_payload to %d there", is, maxPayload)}
	}
	info, err := b.stream(&nats.StreamConfig{Name: b.name("log"), Subjects: []string{b.Cluster + ".log.>"}, Replicas: b.Replicas, MaxAge: keepFor, MaxBytes: b.MaxBytes,
		Discard: nats.DiscardOld, AllowDirect: true, Duplicates: time.Second, Metadata: map[string]string{identityKey: b.Identity}})
	if err != nil {
		return err
	}
	switch is := info.Config.Metadata[identityKey]; {
	case is == "":
		return &mismatch{"the broker has a stream " + info.Config.Name + " that is no log of Tovik: choose another name for the cluster"}
	case b.Identity != "" && is != b.Identity:
		return &mismatch{fmt.Sprintf("the records here are of the log %s, and the cluster follows the log %s: begin with an empty data directory, which is filled from another node", b.Identity, is)}
	default:
		b.Identity = is
	}
	b.first = cluster.Position(info.State.FirstSeq)
	// Its reads go to its leader: a copy may be behind.
	_, err = b.stream(&nats.StreamConfig{Name: b.name("table"), Subjects: []string{b.Cluster + ".table"}, Replicas: b.Replicas, MaxMsgsPerSubject: 1, MaxBytes: tableSize, Discard: nats.DiscardOld})
	return err
}

// stream returns a stream, and makes it if there is none.
func (b *Broker) stream(want *nats.StreamConfig) (*nats.StreamInfo, error) {
	want.Storage, want.Retention = nats.FileStorage, nats.LimitsPolicy
	if b.Tagged {
		want.Placement = &nats.Placement{Tags: []string{keeperTag}}
	}
	info, err := b.js.StreamInfo(want.Name)
	if errors.Is(err, nats.ErrStreamNotFound) {
		info, err = b.js.AddStream(want)
		if errors.Is(err, nats.ErrStreamNameAlreadyInUse) { // another node was faster
			info, err = b.js.StreamInfo(want.Name)
		}
	}
	return info, err
}

func (b *Broker) name(of string) string { return b.Cluster + "-" + of }

// streams are what the broker keeps.
var streams = []string{"log", "table"}

// Arrange moves the log and the table towards the given servers, which must all run with ServerOptions.KeepsLog, and
// applies Options.MaxBytes. Has are the copies of the servers that answer. Each call makes one change and says which;
// empty: there is nothing left to change.
func (b *Broker) Arrange(keepers []string, has map[string]Copies) (changed string, err error) {
	for _, of := range streams {
		info, err := b.js.StreamInfo(b.name(of))
		if err != nil {
			return "", err
		}
		if info.Cluster == nil || info.Cluster.Leader == "" {
			return "", nil // a server without others, or no leader now
		}
		keep := []string{info.Cluster.Leader}
		for _, on := range info.Cluster.Replicas {
			if !on.Offline && !has[on.Name].complete(of, info.State.LastSeq) {
				return fmt.Sprintf("waiting until %s has the %s", on.Name, of), nil
			}
			keep = append(keep, on.Name)
		}
		if of == "log" && info.Config.MaxBytes != b.MaxBytes {
			is := info.Config
			is.MaxBytes = b.MaxBytes
			if _, err := b.js.UpdateStream(&is); err != nil {
				return "", fmt.Errorf("the limit of the log cannot be changed: %w", err)
			}
			return fmt.Sprintf("the log may have %d bytes, not %d", b.MaxBytes, info.Config.MaxBytes), nil
		}
		if info.Config.Replicas != len(keepers) {
			is := info.Config
			is.Replicas = len(keepers)
			if _, err := b.js.UpdateStream(&is); err != nil {
				return "", fmt.Errorf("the %s cannot be kept by %d nodes: %w", of, len(keepers), err)
			}
			return fmt.Sprintf("%d nodes keep the %s, not %d", len(keepers), of, info.Config.Replicas), nil
		}
		for _, name := range keep {
			if !slices.Contains(keepers, name) {
				if err := b.call("STREAM.PEER.REMOVE."+b.name(of), map[string]string{"peer": name}); err != nil {
					return "", fmt.Errorf("the %s cannot be taken from %s: %w", of, name, err)
				}
				return fmt.Sprintf("%s no longer keeps the %s", name, of), nil
			}
		}
	}
	return "", nil
}

// call makes a request of the broker that its client does not have.
func (b *Broker) call(what string, with any) error {
	text, err := json.Marshal(with)
	if err != nil {
		return err
	}
	answer, err := b.Conn.Request("$JS.API."+what, text, 5*answerIn)
	if err != nil {
		return err
	}
	var said struct {
		Error *struct {
			Text string `json:"description"`
		}
	}
	if err := json.Unmarshal(answer.Data, &said); err != nil {
		return err
	}
	if said.Error != nil {
		return errors.New(said.Error.Text)
	}
	return nil
}

// State is the state of the log and of the broker.
type State struct {
	First, Last, Bytes, Most uint64
	Copies                   int    // nodes that keep the log
	Current                  int    // how many of them have all of it and of the table, as the broker sees it
	LogLeader, TableLeader   string // nodes; empty: none
	tableLast                uint64
}

// Copies has the number of the last record in each copy on a server, by "log" and "table". It lacks a copy that the server
// is still filling.
type Copies map[string]uint64

// Complete reports whether a server has copies of both, which lack at most the records of the last moments.
func (s State) Complete(copies Copies) bool {
	return copies.complete("log", s.Last) && copies.complete("table", s.tableLast)
}

func (c Copies) complete(of string, last uint64) bool {
	has, ok := c[of]
	return ok && has+fewBehind >= last && (has > 0 || last == 0)
}

// fewBehind is how many records a complete copy may lack: those of the last moments.
const fewBehind = 1000

// State asks the leaders of the log and the table for their state.
func (b *Broker) State() (s State, err error) {
	log, err := b.js.StreamInfo(b.name("log"))
	if err != nil {
		return s, err
	}
	table, err := b.js.StreamInfo(b.name("table"))
	if err != nil {
		return s, err
	}
	s = State{First: log.State.FirstSeq, Last: log.State.LastSeq, Bytes: log.State.Bytes, Most: uint64(max(log.Config.MaxBytes, 0)), Copies: log.Config.Replicas,
		Current: min(current(log), current(table)), tableLast: table.State.LastSeq}
	if log.Cluster != nil {
		s.LogLeader = log.Cluster.Leader
	}
	if table.Cluster != nil {
		s.TableLeader = table.Cluster.Leader
	}
	return s, nil
}

// current counts the complete copies as the leader sees them. The leader counts entries since its last snapshot, so it may
// take a new, empty copy for complete.
func current(of *nats.StreamInfo) int {
	count := 1
	if of.Cluster != nil {
		for _, on := range of.Cluster.Replicas {
			if !on.Offline && (on.Current || on.Lag < fewBehind) { // while it is written to, one is always a moment behind
				count++
			}
		}
	}
	return count
}

// errNoStreams says that the broker cannot keep a log, or not yet.
var errNoStreams = errors.New("no server of the broker keeps streams: it needs JetStream")

// errNotBegun says that there is no log.
var errNotBegun = errors.New("no node has begun the cluster yet: tovik cluster begin")

// Has reports whether the log still has everything after a position.
func (b *Broker) Has(after uint64) bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return uint64(b.first) <= after+1
}

// Close waits for the requests that are under way.
func (b *Broker) Close() {
	b.mu.Lock()
	b.closed = true
	b.mu.Unlock()
	b.inFlight.Wait()
}

// Wait waits for the requests that are under way.
func (b *Broker) Wait() { b.inFlight.Wait() }

// later does something beside the caller, which must not block.
func (b *Broker) later(do func()) {
	b.mu.Lock()
	defer b.mu.Unlock()
	if !b.closed {
		b.inFlight.Go(do)
	}
}

// Append implements [cluster.Log].
func (b *Broker) Append(r cluster.Record, after cluster.Position, done func(cluster.Outcome)) {
	text, err := coding.Record(r)
	if err != nil {
		b.Log.Error("a record has no form", "error", err)
		b.later(func() { done(cluster.Refused) })
		return
	}
	subject := b.Cluster + ".log.all"
	if r.Realm != 0 {
		subject = b.Cluster + ".log.realm." + strconv.FormatUint(uint64(r.Realm), 10)
	}
	b.mu.Lock()
	if after != cluster.Unfenced && after < b.first {
		after = 0 // the log has dropped it
	}
	b.mu.Unlock()
	b.later(func() {
		outcome := b.publish(subject, text, after)
		if outcome == cluster.Refused && after != cluster.Unfenced {
			b.lookForFirst() // what was expected may have been too old for the log
		}
		done(outcome)
	})
}

// lookForFirst notes which is the oldest record that the log still has.
func (b *Broker) lookForFirst() {
	b.mu.Lock()
	recently := time.Since(b.looked) < answerIn
	if !recently {
		b.looked = time.Now()
	}
	b.mu.Unlock()
	if recently {
		return
	}
	if info, err := b.js.StreamInfo(b.name("log")); err == nil {
		b.mu.Lock()
		defer b.mu.Unlock()
		b.first = cluster.Position(info.State.FirstSeq)
	}
}

// publish writes to a stream. After is the expected sequence of the subject, unless it is Unfenced.
func (b *Broker) publish(subject string, text []byte, after cluster.Position) cluster.Outcome {
	m := nats.NewMsg(subject)
	m.Data = text
	if after != cluster.Unfenced {
		m.Header.Set(nats.ExpectedLastSubjSeqHdr, strconv.FormatUint(uint64(after), 10))
	}
	answer, err := b.Conn.RequestMsg(m, answerIn)
	if err != nil {
		return cluster.Unknown
	}
	var ack struct {
		Seq   uint64
		Error *struct {
			Code uint16 `json:"err_code"`
			Text string `json:"description"`
		}
	}
	if json.Unmarshal(answer.Data, &ack) != nil {
		return cluster.Unknown
	}
	switch {
	case ack.Error == nil && ack.Seq > 0:
		return cluster.Done
	case ack.Error == nil:
		return cluster.Unknown
	case ack.Error.Code == wrongLast || ack.Error.Code == lastPending:
		return cluster.Refused
	}
	b.Log.Warn("the log refuses a record", "error", ack.Error.Text)
	return cluster.Unknown
}

// Error codes that mean: another record came first, or is being written. A leader that is cut off may also
// mean a record that it is still trying to write itself, so a refused owner reads the log before it decides.
const (
	wrongLast   = 10071
	lastPending = 10164
)

// Read implements [cluster.Table].
func (b *Broker) Read(done func(cluster.Owners, bool)) {
	b.later(func() {
		owners, err := b.readTable()
		if err != nil {
			b.Log.Debug("the table cannot be read", "error", err)
		}
		done(owners, err == nil)
	})
}

func (b *Broker) readTable() (owners cluster.Owners, err error) {
	m, err := b.js.GetLastMsg(b.name("table"), b.Cluster+".table")
	if errors.Is(err, nats.ErrMsgNotFound) {
		return owners, nil
	}
	if err != nil {
		return owners, err
	}
	err = json.Unmarshal(m.Data, &owners)
	owners.Version = m.Sequence
	return owners, err
}

// Swap implements [cluster.Table].
func (b *Broker) Swap(version uint64, to cluster.Owners, done func(cluster.Outcome)) {
	to.Version = 0 // it is the sequence
	text, err := json.Marshal(to)
	if err != nil {
		b.later(func() { done(cluster.Refused) })
		return
	}
	b.later(func() { done(b.publish(b.Cluster+".table", text, cluster.Position(version))) })
}

// Send implements [cluster.Bus].
func (b *Broker) Send(to cluster.Name, e cluster.Envelope) {
	text, err := coding.Envelope(e)
	if err == nil {
		err = b.Conn.Publish(b.bus(to), text)
	}
	if err != nil {
		b.Log.Warn("a message could not be sent", "to", to, "error", err)
	}
}

func (b *Broker) bus(of cluster.Name) string { return b.Cluster + ".bus." + string(of) }
