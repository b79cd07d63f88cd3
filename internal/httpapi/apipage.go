package httpapi

import (
	"bytes"
	"encoding/json"
	"fmt"
	"html/template"
	"maps"
	"slices"
	"strings"

	"github.com/gofiber/fiber/v3"

	"tovik.example/tovik/wire"
)

// apiPage is the page that shows the OpenAPI document to people.
func (a *API) apiPage(c fiber.Ctx) error {
	page, err := a.described()
	if err != nil {
		return err
	}
	c.Set(fiber.HeaderContentSecurityPolicy, "default-src 'none'; style-src 'unsafe-inline'; frame-ancestors 'none'; base-uri 'none'")
	return c.Type("html", "utf-8").Send(page)
}

// openAPI is the part of the document that the page shows.
type openAPI struct {
	Info struct{ Summary, Description string }
	Tags []struct{ Name, Description string }

	Paths      map[string]map[string]openAPIOperation
	Components struct {
		Schemas   map[string]openAPISchema
		Responses map[string]struct{ Description string }
	}
}

type openAPIOperation struct {
	OperationID, Summary, Description string
	Tags                              []string
	Parameters                        []openAPIParameter
	RequestBody                       struct{ Content map[string]openAPIContent }
	Responses                         map[string]struct {
		Ref         string `json:"$ref"`
		Description string
		Content     map[string]openAPIContent
	}
}

type openAPIParameter struct {
	Ref         string `json:"$ref"`
	Name, In    string
	Description string
	Schema      openAPISchema
	Example     any
}

type openAPIContent struct {
	Schema  openAPISchema
	Example any
}

type openAPISchema struct {
	Ref         string `json:"$ref"`
	Type        any
	Description string
	Format      string
	Enum        []any
	Items       *openAPISchema
	Properties  map[string]openAPISchema
	Required    []string
	Additional  json.RawMessage `json:"additionalProperties"`
}

// Kind describes the type of a schema.
func (s openAPISchema) Kind() string {
	switch {
	case s.Ref != "":
		return s.Ref[strings.LastIndex(s.Ref, "/")+1:]
	case s.Items != nil:
		return "list of " + s.Items.Kind()
	case s.Format != "":
		return s.Format
	case s.Type == nil:
		return "any JSON"
	}
	return fmt.Sprint(s.Type)
}

// Named returns the name of the schema that this one refers to, or is a list of; otherwise
// nothing.
func (s openAPISchema) Named() string {
	if s.Items != nil {
		return s.Items.Named()
	}
	return s.Ref[strings.LastIndex(s.Ref, "/")+1:]
}

// apiView is the data of the template.
type apiView struct {
	Doc    openAPI
	Topics []apiTopic
	Shapes []apiShape
}

type apiTopic struct {
	Name, Description string
	Operations        []apiOperation
}

type apiOperation struct {
	openAPIOperation
	Method, Path string
	Asks         []openAPIParameter
	Body         string
	Media        string
	Answer       string
	Forms        []string
	Status       string
	Gives        string
	Problems     []apiProblem
}

type apiProblem struct{ Status, Text string }

type apiShape struct {
	Name, Description string
	Fields            []apiField
}

type apiField struct {
	Name, Kind, Description, Named string
	Required                       bool
}

// renderAPI renders the page.
func renderAPI() ([]byte, error) {
	var view apiView
	if err := json.Unmarshal(wire.OpenAPI, &view.Doc); err != nil {
		return nil, fmt.Errorf("read the OpenAPI document: %w", err)
	}
	for _, tag := range view.Doc.Tags {
		view.Topics = append(view.Topics, apiTopic{Name: tag.Name, Description: tag.Description})
	}
	for _, op := range Operations() { // in their order, which a map has not
		shown, ok := view.Doc.Paths[op.Path][strings.ToLower(op.Method)]
		if !ok {
			continue
		}
		i := slices.IndexFunc(view.Topics, func(t apiTopic) bool { return t.Name == op.Topic })
		view.Topics[i].Operations = append(view.Topics[i].Operations, view.operation(op.Method, op.Path, shown))
	}
	for _, name := range slices.Sorted(maps.Keys(view.Doc.Components.Schemas)) {
		schema := view.Doc.Components.Schemas[name]
		shape := apiShape{Name: name, Description: schema.Description}
		for _, field := range slices.Sorted(maps.Keys(schema.Properties)) {
			s := schema.Properties[field]
			shape.Fields = append(shape.Fields, apiField{field, s.Kind(), s.Description, s.Named(), slices.Contains(schema.Required, field)})
		}
		view.Shapes = append(view.Shapes, shape)
	}
	var page bytes.Buffer
	err := apiTemplate.Execute(&page, view)
	return page.Bytes(), err
}

func (v *apiView) operation(method, path string, op openAPIOperation) apiOperation {
	shown := apiOperation{openAPIOperation: op, Method: method, Path: path}
	for _, p := range op.Parameters {
		if p.Ref == "" {
			shown.Asks = append(shown.Asks, p)
		}
	}
	for _, media := range slices.Sorted(maps.Keys(op.RequestBody.Content)) {
		if shown.Media == "" {
			shown.Media, shown.Body = media, pretty(op.RequestBody.Content[media].Example)
		}
	}
	for _, status := range slices.Sorted(maps.Keys(op.Responses)) {
		response := op.Responses[status]
		if response.Ref != "" {
			name := response.Ref[strings.LastIndex(response.Ref, "/")+1:]
			shown.Problems = append(shown.Problems, apiProblem{status, v.Doc.Components.Responses[name].Description})
			continue
		}
		if shown.Status != "" {
			continue // 304 says itself
		}
		shown.Status = status
		for _, media := range slices.Sorted(maps.Keys(response.Content)) {
			shown.Forms = append(shown.Forms, media)
			if content := response.Content[media]; media == "application/json" {
				shown.Gives, shown.Answer = content.Schema.Named(), pretty(content.Example)
			}
		}
	}
	return shown
}

// pretty formats an example.
func pretty(example any) string {
	if text, ok := example.(string); ok || example == nil {
		return text
	}
	var text bytes.Buffer
	encoder := json.NewEncoder(&text)
	encoder.SetIndent("", "  ")
	encoder.SetEscapeHTML(false)
	_ = encoder.Encode(example) // came from JSON
	const most = 40
	lines := strings.Split(strings.TrimSpace(text.String()), "\n")
	if len(lines) > most {
		lines = append(lines[:most], "…")
	}
	return strings.Join(lines, "\n")
}

var apiTemplate = template.Must(template.New("api").Parse(`<!doctype html>
<html lang="en"><meta charset="utf-8"><meta name="viewport" content="width=device-width">
<title>The HTTP API · Tovik</title>
<style>
 :root { --ink: #16242c; --quiet: #4d626b; --paper: #f6f8f7; --card: #fff; --edge: #cfdad6; --code: #e3ebe8; --link: #0b6170; --mark: #0b6170 }
 @media (prefers-color-scheme: dark) { :root { --ink: #dfe9e6; --quiet: #9fb3b3; --paper: #10191d; --card: #16222a; --edge: #2b3b42; --code: #1f2d33; --link: #6cc6d6; --mark: #6cc6d6 } }
 html { scroll-padding-top: 1rem }
 body { font: 15px/1.55 system-ui, sans-serif; margin: 0; color: var(--ink); background: var(--paper); display: grid; grid-template-columns: 17rem minmax(0, 1fr) }
 nav { position: sticky; top: 0; height: 100vh; overflow: auto; padding: 1.2rem 1rem; box-sizing: border-box; border-right: 1px solid var(--edge); font-size: 13px }
 nav a { display: block; padding: .1rem 0; text-decoration: none; overflow: hidden; text-overflow: ellipsis; white-space: nowrap } nav b { display: block; margin-top: .9rem }
 main { padding: 1.5rem 2rem 4rem; max-width: 62rem } h1 { margin: 0 } h2 { margin: 2.5rem 0 0; border-bottom: 1px solid var(--edge) }
 section { background: var(--card); border: 1px solid var(--edge); border-radius: .5rem; padding: .9rem 1.1rem; margin: 1rem 0 }
 h3 { margin: 0; font-size: 1rem; font-weight: 600; overflow-wrap: anywhere } p { margin: .35rem 0 } .quiet { color: var(--quiet) }
 code, pre { font: 13px/1.45 ui-monospace, monospace } code { background: var(--code); padding: .05em .3em; border-radius: .25em; overflow-wrap: anywhere }
 pre { background: var(--code); padding: .6rem .8rem; border-radius: .35rem; overflow: auto; margin: .4rem 0; max-height: 22rem } a { color: var(--link) }
 table { border-collapse: collapse; width: 100%; margin: .4rem 0; font-size: 14px } td { padding: .2rem .8rem .2rem 0; vertical-align: top; border-top: 1px solid var(--edge) } td:first-child { white-space: nowrap }
 summary { cursor: pointer; color: var(--quiet) } .verb { color: var(--mark); font-weight: 700; margin-right: .4rem }
 @media (max-width: 800px) { body { display: block } nav { position: static; height: auto; max-height: 14rem; border: 0 } main { padding: 1rem } }
</style>
<nav aria-label="Operations"><a href="#top"><strong>The HTTP API</strong></a>
{{range .Topics}}<b>{{.Name}}</b>{{range .Operations}}<a href="#{{.OperationID}}" title="{{.Method}} {{.Path}}">{{.Summary}}</a>{{end}}{{end}}<b><a href="#shapes">Shapes</a></b></nav>
<main id="top"><h1>The HTTP API</h1><p>{{.Doc.Info.Summary}}</p><p>{{.Doc.Info.Description}}</p>
<p>For machines: <a href="/openapi.json"><code>/openapi.json</code></a> (OpenAPI 3.1); the frames of links: <a href="/asyncapi.yaml"><code>/asyncapi.yaml</code></a>; what problems mean: <a href="/problems">all codes</a>.</p>
{{range .Topics}}<h2>{{.Name}}</h2><p class="quiet">{{.Description}}</p>
{{range .Operations}}<section id="{{.OperationID}}"><h3><span class="verb">{{.Method}}</span><code>{{.Path}}</code></h3><p><strong>{{.Summary}}.</strong> {{.Description}}</p>
{{if .Asks}}<table>{{range .Asks}}<tr><td><code>{{.Name}}</code></td><td>{{.Description}}{{if .Schema.Enum}} <span class="quiet">One of {{range $i, $e := .Schema.Enum}}{{if $i}}, {{end}}{{$e}}{{end}}.</span>{{end}}{{if .Example}} <span class="quiet">As in <code>{{.Example}}</code></span>{{end}}</td></tr>{{end}}</table>{{end}}
{{if .Body}}<p class="quiet">Takes {{.Media}}:</p><pre tabindex="0">{{.Body}}</pre>{{end}}
<p class="quiet">Answers {{.Status}}{{if .Gives}} with <a href="#shape-{{.Gives}}">{{.Gives}}</a>{{end}}{{if .Forms}}, as {{range $i, $f := .Forms}}{{if $i}}, {{end}}{{$f}}{{end}}{{end}}.</p>
{{if .Answer}}<details><summary>An answer</summary><pre tabindex="0">{{.Answer}}</pre></details>{{end}}
{{if .Problems}}<details><summary>What can be wrong</summary><table>{{range .Problems}}<tr><td>{{.Status}}</td><td>{{.Text}}</td></tr>{{end}}</table></details>{{end}}</section>{{end}}{{end}}
<h2 id="shapes">Shapes</h2>
{{range .Shapes}}<section id="shape-{{.Name}}"><h3>{{.Name}}</h3><p>{{.Description}}</p><table>{{range .Fields}}<tr><td><code>{{.Name}}</code>{{if not .Required}} <span class="quiet">may be left out</span>{{end}}</td><td>{{if .Named}}<a href="#shape-{{.Named}}">{{.Kind}}</a>{{else}}{{.Kind}}{{end}}{{with .Description}} · {{.}}{{end}}</td></tr>{{end}}</table></section>{{end}}
</main></html>
`))
