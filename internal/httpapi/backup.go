package httpapi

import (
	"errors"
	"io"
	"os"
	"time"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/internal/journal"
)

// backup answers with a copy of the records as of one moment.
func (a *API) backup(c fiber.Ctx) error {
	ctx, done, ok := a.streams.begin(operatorOf(c).Key)
	if !ok {
		return tooManyStreams()
	}
	file, lacks, err := a.realms.Backup(ctx)
	if lacks != nil {
		a.log.Warn("a backup is incomplete", "error", lacks)
	}
	if err != nil {
		done()
		return err
	}
	info, err := file.Stat()
	if err != nil {
		done()
		return errors.Join(err, file.Close())
	}
	deskOf(c).Acted(journal.RecordsBackedUp)
	c.Set(fiber.HeaderContentType, "application/vnd.sqlite3")
	c.Set(fiber.HeaderContentDisposition, `attachment; filename="tovik-`+time.Now().UTC().Format("20060102-150405")+`.db"`)
	conn := c.RequestCtx().Conn()
	return c.SendStream(&paced{file: file, done: done, extend: func() { _ = conn.SetWriteDeadline(time.Now().Add(streamWrite)) }}, int(info.Size()))
}

// paced is a file that is deleted after reading, and extends the time limit with each piece.
type paced struct {
	file   *os.File
	extend func()
	done   func()
}

func (p *paced) Read(b []byte) (int, error) {
	p.extend()
	return p.file.Read(b)
}

func (p *paced) Close() error {
	defer p.done()
	return errors.Join(p.file.Close(), os.Remove(p.file.Name()))
}

var _ io.ReadCloser = (*paced)(nil)
