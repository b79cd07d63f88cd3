package httpapi

import (
	"context"
	"io"
	"log/slog"
	"net"
	"strings"
	"testing"
	"testing/synctest"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/access"
)

func TestAPieceThatTakesLongToMakeIsNotCutOff(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		piece := strings.Repeat("a study\n", 2000) // more than any buffer
		api, app := &API{log: slog.New(slog.DiscardHandler)}, fiber.New()
		app.Get("/", func(c fiber.Ctx) error {
			c.Locals(operatorLocal{}, access.Operator{})
			return api.stream(c, asStream, func(_ context.Context, w io.Writer, flush func() error) error {
				if err := flush(); err != nil {
					return err
				}
				time.Sleep(6 * streamWrite)
				_, err := io.WriteString(w, piece)
				return err
			})
		})
		here, there := net.Pipe()
		app.Handler()                     // prepares the routes
		app.Server().NoDefaultDate = true // whose goroutine would never end
		go func() {
			_ = app.Server().ServeConn(there)
			_ = there.Close()
		}()
		_, err := io.WriteString(here, "GET / HTTP/1.0\r\nHost: tovik\r\n\r\n")
		require.NoError(t, err)
		answer, err := io.ReadAll(here)
		require.NoError(t, err)
		require.Contains(t, string(answer), "HTTP/1.1 200")
		require.Equal(t, strings.Count(piece, "a study"), strings.Count(string(answer), "a study"))
	})
}
