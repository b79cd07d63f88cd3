package server

import (
	"cmp"
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"slices"
	"sync"
	"time"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/stored"
	"tovik.example/tovik/internal/records"
	"tovik.example/tovik/wire"
)

// BeginCluster begins a cluster with the records of a data directory, which no service may be using: the log
// continues them, and other nodes copy them. It returns the names of their realms. With again, the records may be
// those of a log that is lost; what is left of it in the directory is deleted.
func BeginCluster(dir string, again bool) (realms []string, err error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, err
	}
	store, err := records.Open(dir)
	if err != nil {
		return nil, err
	}
	defer func() { err = errors.Join(err, store.Close()) }()
	at, err := store.Position()
	if err != nil {
		return nil, err
	}
	if at.Log != "" && !again {
		return nil, errors.New("these records are those of a cluster already. If its log is lost, another one can begin with them: tovik cluster begin --again")
	}
	fold, err := foldOf(store, at)
	if err != nil {
		return nil, err
	}
	state, err := json.Marshal(&fold)
	if err != nil {
		return nil, err
	}
	for _, is := range fold.Realms {
		realms = append(realms, is.Name)
	}
	slices.Sort(realms)
	begins := records.Position{Log: rand.Text()}.Next(state) // its hash is that of what the log begins with
	begins.Sequence, begins.State = 0, state
	if err := store.Begin(begins); err != nil {
		return nil, err
	}
	return realms, os.RemoveAll(filepath.Join(dir, logDir)) // it is of the log before
}

// foldOf returns the state of the realms with which a log begins. If the records had a log before, its epochs go on.
func foldOf(store *records.Store, at records.Position) (fold cluster.Fold, err error) {
	if at.State != nil {
		if err = json.Unmarshal(at.State, &fold); err != nil {
			return fold, err
		}
		fold.Listed = 0
		for _, is := range fold.Realms {
			is.Last = 0
		}
		return fold, nil
	}
	kept, err := store.Realms()
	if err != nil {
		return fold, err
	}
	slices.SortFunc(kept, func(a, b records.Realm) int { return cmp.Or(a.Created.Compare(b.Created), cmp.Compare(a.Name, b.Name)) })
	names := []string{access.Main}
	for _, realm := range kept {
		if realm.Name != access.Main {
			names = append(names, realm.Name)
		}
	}
	last, err := store.LastRun()
	fold = cluster.NewFold(names...)
	for _, is := range fold.Realms {
		is.Wall = last.Mark // the last sign of life
	}
	return fold, err
}

// recordsAt returns the position of the records in a data directory. Records without a log must be blank.
func recordsAt(dir string) (at records.Position, err error) {
	store, err := records.Open(dir)
	if err != nil {
		return at, err
	}
	defer func() { err = errors.Join(err, store.Close()) }()
	if at, err = store.Position(); err != nil || at.Log != "" {
		return at, err
	}
	if blank, err := store.Blank(); err != nil || !blank {
		return at, cmp.Or(err, stored.ErrNotBlank)
	}
	return at, nil
}

// Requests of nodes that need a copy of the records.
const (
	askCopy  = "copy"
	askPiece = "copy-piece"
)

// Limits of copies.
const (
	pieceSize = 1 << 20
	copyIdle  = time.Minute // a copy of which nobody wants a piece for so long is removed
	copyPause = 250 * time.Millisecond
)

// wanted is a piece of a copy that a node asks for.
type wanted struct {
	Name string `json:"name"`
	From int64  `json:"from"`
}

// piece is a piece of a copy.
type piece struct {
	Ready bool   `json:"ready"` // false: the copy is still being made
	Size  int64  `json:"size"`  // of the whole
	Log   string `json:"log"`   // whose records they are
	Bytes []byte `json:"bytes"`
}

// fillRecords copies the records of another node, if this one has none, or if the log has dropped what they lack.
func (n *node) fillRecords(ctx context.Context, dir string) error {
	log := n.log
	if n.at.Log != "" && n.broker.Has(n.at.At) {
		return nil
	}
	if n.at.Log != "" {
		log.Warn("the log has dropped records that this node has not read, so it takes a copy of those of another node", "read", n.at.At)
	}
	ctx, cancel := context.WithTimeout(ctx, joinIn)
	defer cancel()
	for {
		for _, name := range n.peers.All() {
			if name == n.Cluster.Node {
				continue
			}
			err := n.copyFrom(ctx, name, dir)
			if err == nil {
				log.Info("this node has taken a copy of the records", "from", name)
				return nil
			}
			log.Debug("no copy of the records yet", "from", name, "error", err)
		}
		select {
		case <-ctx.Done():
			return fmt.Errorf("no other node has given this one its records: %w", ctx.Err())
		case <-time.After(copyPause):
		}
	}
}

// copyFrom takes a copy of the records of a node.
func (n *node) copyFrom(ctx context.Context, name, dir string) (err error) {
	var copied string
	if err := n.peers.Ask(ctx, name, askCopy, nil, &copied); err != nil {
		return err
	}
	file, err := os.CreateTemp(dir, ".copying-")
	if err != nil {
		return err
	}
	defer func() { err = errors.Join(err, os.Remove(file.Name())) }()
	if err = errors.Join(n.fetch(ctx, name, copied, file), file.Sync(), file.Close()); err != nil {
		return err
	}
	aside, err := records.Restore(file.Name(), dir)
	if n.at.Log == "" && aside != "" { // it was blank
		for _, suffix := range []string{"", "-wal", "-shm"} {
			if gone := os.Remove(aside + suffix); !errors.Is(gone, os.ErrNotExist) {
				err = errors.Join(err, gone)
			}
		}
	}
	return err
}

func (n *node) fetch(ctx context.Context, name, copied string, to io.Writer) error {
	for from, size := int64(0), int64(1); from < size; {
		var is piece
		if err := n.peers.Ask(ctx, name, askPiece, wanted{copied, from}, &is); err != nil {
			return err
		}
		if !is.Ready {
			time.Sleep(copyPause)
			continue
		}
		switch {
		case is.Log != n.broker.Identity:
			return fmt.Errorf("%s has the records of another log, %s", name, is.Log)
		case len(is.Bytes) == 0:
			return io.ErrUnexpectedEOF
		}
		if _, err := to.Write(is.Bytes); err != nil {
			return err
		}
		from, size = from+int64(len(is.Bytes)), is.Size
	}
	return nil
}

// copies are copies of the records that other nodes are taking.
type copies struct {
	rows   *stored.Records
	making sync.WaitGroup
	mu     sync.Mutex
	open   map[string]*taking
	closed bool
}

// taking is a copy. File is nil while it is being made.
type taking struct {
	file *os.File
	size int64
	err  error
	idle *time.Timer // removes it
}

// giveRecords lets other nodes take copies of the records, while ctx is not done.
func (n *node) giveRecords(ctx context.Context, rows *stored.Records) {
	c := &copies{rows: rows, open: map[string]*taking{}}
	n.copies = c
	n.peers.Answer(askCopy, func(context.Context, json.RawMessage) (any, error) { return c.begin(ctx) })
	n.peers.Answer(askPiece, func(_ context.Context, question json.RawMessage) (any, error) {
		var w wanted
		if err := json.Unmarshal(question, &w); err != nil {
			return nil, err
		}
		return c.piece(w)
	})
}

// mostCopies limits how many copies may be taken at once: each needs as much room as the records.
const mostCopies = 4

// begin begins to make a copy, and returns its name.
func (c *copies) begin(ctx context.Context) (string, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if c.closed || len(c.open) >= mostCopies {
		return "", &wire.Problem{Code: wire.CodeBusy, Detail: "this node makes as many copies of its records as it may", Allowed: "another try in a second"}
	}
	name := rand.Text()
	is := &taking{}
	is.idle = time.AfterFunc(copyIdle, func() { c.end(name) })
	c.open[name] = is
	c.making.Go(func() {
		file, err := c.rows.Copy(ctx)
		var size int64
		if err == nil {
			var info os.FileInfo
			if info, err = file.Stat(); err == nil {
				size = info.Size()
			}
		}
		c.mu.Lock()
		defer c.mu.Unlock()
		is.file, is.size, is.err = file, size, err
		if c.open[name] != is {
			is.remove()
		}
	})
	return name, nil
}

func (c *copies) piece(w wanted) (p piece, err error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	is := c.open[w.Name]
	switch {
	case is == nil || w.From < 0:
		return p, &wire.Problem{Code: wire.CodeNotReady, Detail: "there is no such copy of the records"}
	case is.err != nil:
		return p, is.err
	}
	is.idle.Reset(copyIdle)
	if is.file == nil {
		return p, nil
	}
	p = piece{Ready: true, Size: is.size, Log: c.rows.At().Log, Bytes: make([]byte, pieceSize)}
	read, err := is.file.ReadAt(p.Bytes, w.From)
	p.Bytes = p.Bytes[:read]
	if errors.Is(err, io.EOF) {
		err = nil
		is.idle.Reset(0) // it was the last
	}
	return p, err
}

func (c *copies) end(name string) {
	c.mu.Lock()
	defer c.mu.Unlock()
	if is := c.open[name]; is != nil {
		delete(c.open, name)
		is.remove()
	}
}

// remove removes the file, if it has been made.
func (t *taking) remove() {
	t.idle.Stop()
	if t.file != nil {
		_ = errors.Join(t.file.Close(), os.Remove(t.file.Name()))
	}
}

// close removes all copies.
func (c *copies) close() {
	c.mu.Lock()
	c.closed = true
	for name, is := range c.open {
		delete(c.open, name)
		is.remove()
	}
	c.mu.Unlock()
	c.making.Wait()
}
