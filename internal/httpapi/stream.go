package httpapi

import (
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"encoding/json"
	"io"
	"reflect"
	"strconv"
	"strings"
	"sync"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/wire"
)

// Limits of long answers.
const (
	maxStreams   = 512              // at once
	streamWrite  = 10 * time.Second // time limit for each write
	streamSilent = 15 * time.Second // without news, a live answer sends a sign of life
)

// streams are the long answers now being written. The zero value is ready.
type streams struct {
	mu     sync.Mutex
	ended  bool
	open   map[int]streaming
	last   int
	closed sync.WaitGroup
}

// streaming is one of them, with the key of its caller.
type streaming struct {
	key    string
	cancel context.CancelFunc
}

func (s *streams) begin(key string) (ctx context.Context, done func(), ok bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.ended || len(s.open) >= maxStreams {
		return nil, nil, false
	}
	if s.open == nil {
		s.open = map[int]streaming{}
	}
	ctx, cancel := context.WithCancel(context.Background())
	s.last++
	n := s.last
	s.open[n] = streaming{key, cancel}
	s.closed.Add(1)
	return ctx, func() {
		s.mu.Lock()
		defer s.mu.Unlock()
		cancel()
		delete(s.open, n)
		s.closed.Done()
	}, true
}

// end refuses new long answers, and ends the current ones.
func (s *streams) end() {
	s.mu.Lock()
	s.ended = true
	for _, one := range s.open {
		one.cancel()
	}
	s.mu.Unlock()
	s.closed.Wait()
}

// recheck ends those whose key is no longer valid.
func (s *streams) recheck(inForce func(key string) bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	for _, one := range s.open {
		if !inForce(one.key) {
			one.cancel()
		}
	}
}

// stream answers piece by piece. It calls write once, after the handler; what write has written
// is sent at a flush, whose error says that the reader is gone.
func (a *API) stream(c fiber.Ctx, form string, write func(ctx context.Context, w io.Writer, flush func() error) error) error {
	if c.Method() != fiber.MethodGet { // HEAD has no body
		return fiber.ErrMethodNotAllowed
	}
	ctx, done, ok := a.streams.begin(operatorOf(c).Key)
	if !ok {
		return tooManyStreams()
	}
	c.Set(fiber.HeaderContentType, mediaTypes[form])
	c.Set("X-Accel-Buffering", "no")
	conn, path := c.RequestCtx().Conn(), c.Path()
	return c.SendStreamWriter(func(w *bufio.Writer) {
		defer done()
		piece := timed{w, func() { _ = conn.SetWriteDeadline(time.Now().Add(streamWrite)) }}
		flush := func() error {
			piece.begin()
			return w.Flush()
		}
		piece.begin()
		if err := write(ctx, piece, flush); err != nil && ctx.Err() == nil {
			a.log.Debug("a long answer broke off", "path", path, "error", err)
			_ = conn.Close() // so that a part does not look complete
		}
	})
}

// timed writes to a connection whose time limit begins anew with each piece: making one may take
// longer than writing it.
type timed struct {
	to    io.Writer
	begin func()
}

// Write implements [io.Writer].
func (t timed) Write(piece []byte) (int, error) {
	t.begin()
	return t.to.Write(piece)
}

func tooManyStreams() error {
	return &wire.Problem{Code: wire.CodeBusy, Detail: "the service already sends its maximum of long answers", Allowed: strconv.Itoa(maxStreams)}
}

// table writes rows of a list as CSV (RFC 4180) or NDJSON.
type table struct {
	csv  *csv.Writer
	json *json.Encoder
}

// newTable starts a table of documents of a type.
func newTable[T any](form string, w io.Writer) (*table, error) {
	if form == asCSV {
		t := &table{csv: csv.NewWriter(w)}
		t.csv.UseCRLF = true
		return t, t.csv.Write(wire.Columns(reflect.TypeFor[T]()))
	}
	t := &table{json: json.NewEncoder(w)}
	t.json.SetEscapeHTML(false)
	return t, nil
}

func (t *table) row(document any) error {
	if t.json != nil {
		return t.json.Encode(document)
	}
	row := wire.Cells(document)
	for i := range row {
		row[i] = tame(row[i])
	}
	return t.csv.Write(row)
}

func (t *table) flush() error {
	if t.csv == nil {
		return nil
	}
	t.csv.Flush()
	return t.csv.Error()
}

// export answers with rows line by line, up to a limit, read page by page. Next returns the next
// page, and an empty one at the end.
func export[T any](a *API, c fiber.Ctx, form string, limit int, next func(context.Context) ([]T, error)) error {
	return a.stream(c, form, func(ctx context.Context, w io.Writer, flush func() error) error {
		rows, err := newTable[T](form, w)
		for err == nil {
			var page []T
			if page, err = next(ctx); err != nil || len(page) == 0 || limit <= 0 {
				break
			}
			page = page[:min(limit, len(page))]
			limit -= len(page)
			for i := range page {
				if err = rows.row(&page[i]); err != nil {
					return err
				}
			}
			if err = rows.flush(); err == nil {
				err = flush()
			}
		}
		return err
	})
}

// tame keeps a spreadsheet from reading text as a formula: such a cell gets an apostrophe in
// front.
func tame(cell string) string {
	if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
		return "'" + cell
	}
	return cell
}

// listed answers with a document, or with the list in it line by line, in the requested form.
func listed[T any](c fiber.Ctx, document any, list []T) error {
	form, err := formIn(c, asJSON, asNDJSON, asCSV)
	if err != nil {
		return err
	}
	if form == asJSON {
		return c.JSON(document)
	}
	var body bytes.Buffer
	lines, err := newTable[T](form, &body)
	if err != nil {
		return err
	}
	for i := range list {
		if err := lines.row(&list[i]); err != nil {
			return err
		}
	}
	if err := lines.flush(); err != nil {
		return err
	}
	c.Set(fiber.HeaderContentType, mediaTypes[form])
	return c.Send(body.Bytes())
}
