package httpapi

import (
	"bytes"
	"compress/gzip"
	"html/template"
	"io/fs"
	"strings"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/etag"
	"github.com/gofiber/fiber/v3/middleware/static"

	"tovik.example/tovik/web"
	"tovik.example/tovik/wire"
)

var problemPages = template.Must(template.New("problems").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>{{.Title}} · Tovik</title>
<style>
 body { font: 16px/1.6 system-ui, sans-serif; max-width: 42rem; margin: 3rem auto; padding: 0 1rem; color: #16242c; background: #f6f8f7 }
 code { font-family: ui-monospace, monospace; background: #e3ebe8; padding: .1em .35em; border-radius: .25em }
 a { color: #0b6170 } dt { margin-top: 1rem } dd { margin: 0; }
 @media (prefers-color-scheme: dark) { body { color: #dfe9e6; background: #10191d } code { background: #1f2d33 } a { color: #6cc6d6 } }
</style>
<h1>{{.Title}}</h1>
{{if .One}}<p><code>{{.One.Code}}</code>{{if .One.Status}} · HTTP status {{.One.Status}}{{end}}</p>
<p>{{.One.Text}}</p><p><a href="/problems">All problems</a></p>
{{else}}<p>What Tovik's error frames and problem documents say in <code>code</code>.</p>
<dl>{{range .All}}<dt><a href="/problems/{{.Code}}"><code>{{.Code}}</code></a> {{.Title}}</dt><dd>{{.Text}}</dd>{{end}}</dl>{{end}}
</html>
`))

type problemView struct {
	Title string
	One   *wire.ProblemType
	All   []wire.ProblemType
}

func problemIndex(c fiber.Ctx) error {
	return showProblems(c, problemView{Title: "Problems", All: wire.ProblemTypes})
}

func problemPage(c fiber.Ctx) error {
	problemType, ok := wire.ProblemTypeOf(param(c, "code"))
	if !ok {
		return fiber.ErrNotFound
	}
	return showProblems(c, problemView{Title: problemType.Title, One: &problemType})
}

func showProblems(c fiber.Ctx, view problemView) error {
	var page bytes.Buffer
	if err := problemPages.Execute(&page, view); err != nil {
		return err
	}
	return c.Type("html", "utf-8").Send(page.Bytes())
}

// policy is the content security policy of the console: only the service's own files, and
// pictures of people from anywhere.
const policy = "default-src 'none'; script-src 'self'; style-src 'self'; font-src 'self'; connect-src 'self'; " +
	"img-src 'self' https: http: data:; frame-ancestors 'none'; base-uri 'none'; form-action 'self'"

// backEnds is the part of the library that pages cannot use.
const backEnds = "tovik-server.js"

// library serves the browser library to pages of any origin. Its address is the same in all
// versions, so browsers check each time whether it has changed.
func (a *API) library(app *fiber.App) {
	scripts, err := fs.Glob(web.Client(), "*.js")
	if err != nil {
		panic("httpapi: the pattern is well-formed: " + err.Error())
	}
	for _, name := range scripts {
		if name == backEnds {
			continue
		}
		plain, packed := script(name)
		app.Get("/client/"+name, etag.New(), func(c fiber.Ctx) error {
			c.Set(fiber.HeaderCacheControl, "no-cache")
			c.Set(fiber.HeaderVary, fiber.HeaderAcceptEncoding)
			c.Set(fiber.HeaderAccessControlAllowOrigin, "*")
			c.Set(fiber.HeaderXContentTypeOptions, "nosniff")
			c.Type("js", "utf-8")
			if c.AcceptsEncodings("gzip") == "" {
				return c.Send(plain)
			}
			c.Set(fiber.HeaderContentEncoding, "gzip")
			return c.Send(packed)
		})
	}
}

// script reads a file of the library, and compresses it.
func script(name string) (plain, packed []byte) {
	plain, err := fs.ReadFile(web.Client(), name)
	if err != nil {
		panic("httpapi: what is embedded can be read: " + err.Error())
	}
	var into bytes.Buffer
	w := gzip.NewWriter(&into)
	_, _ = w.Write(plain) // a buffer never fails
	_ = w.Close()
	return plain, into.Bytes()
}

// notBuilt is the page of a binary without the console.
const notBuilt = "This Tovik was built without its console. Build it with: make build\n"

// consolePages are the paths of the console's pages.
var consolePages = []string{"/", "/rooms/:room", "/people", "/people/:user", "/journal", "/headcount", "/usage", "/timing", "/policies", "/hooks", "/hooks/:hook", "/keys", "/nodes", "/visit", "/practice"}

// console serves the console, which finds its page from the path.
func (a *API) console(app *fiber.App) {
	files := web.Console()
	index, err := fs.ReadFile(files, "index.html")
	page := func(c fiber.Ctx) error {
		if err != nil {
			return c.SendString(notBuilt)
		}
		return sendPage(c, index)
	}
	for _, path := range consolePages {
		app.Get(path, page)
	}
	app.Use("/assets", static.New("assets", static.Config{
		FS: files, Compress: true, ByteRange: true,
		ModifyResponse: func(c fiber.Ctx) error {
			c.Set(fiber.HeaderCacheControl, "public, max-age=31536000, immutable")
			c.Set(fiber.HeaderXContentTypeOptions, "nosniff")
			return nil
		},
		NotFoundHandler: func(fiber.Ctx) error { return fiber.ErrNotFound },
	}))
}

// sendPage sends a page of the service that browsers show.
func sendPage(c fiber.Ctx, text []byte) error {
	c.Set(fiber.HeaderContentSecurityPolicy, policy)
	c.Set(fiber.HeaderXContentTypeOptions, "nosniff")
	c.Set(fiber.HeaderReferrerPolicy, "no-referrer")
	c.Set(fiber.HeaderCacheControl, "no-cache")
	return c.Type("html", "utf-8").Send(text)
}

// documentation serves the pages of docs/ as a site.
func (a *API) documentation(app *fiber.App) {
	files := web.Docs()
	pages, err := fs.Glob(files, "*.html")
	if err != nil {
		panic("httpapi: the pattern is well-formed: " + err.Error())
	}
	if len(pages) == 0 {
		app.Get("/docs", func(c fiber.Ctx) error { return c.SendString(notBuilt) })
	}
	for _, name := range pages {
		text, err := fs.ReadFile(files, name)
		if err != nil {
			panic("httpapi: what is embedded can be read: " + err.Error())
		}
		path := "/docs/" + strings.TrimSuffix(name, ".html")
		if name == "index.html" {
			path = "/docs"
		}
		app.Add([]string{fiber.MethodGet, fiber.MethodHead}, path, compress, conditional, func(c fiber.Ctx) error { return sendPage(c, text) })
	}
	app.Use("/docs", static.New(".", static.Config{
		FS: files, Compress: true, ByteRange: true,
		ModifyResponse: func(c fiber.Ctx) error {
			c.Set(fiber.HeaderCacheControl, "no-cache")
			c.Set(fiber.HeaderXContentTypeOptions, "nosniff")
			return nil
		},
		NotFoundHandler: func(fiber.Ctx) error { return fiber.ErrNotFound },
	}))
}
