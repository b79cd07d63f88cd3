package server_test

import (
	"bytes"
	"encoding/json"
	"flag"
	"fmt"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"
	"time"

	describing "github.com/invopop/jsonschema"
	"github.com/stretchr/testify/require"

	"tovik.example/tovik/internal/access"
	"tovik.example/tovik/internal/hooks"
	"tovik.example/tovik/internal/httpapi"
	"tovik.example/tovik/wire"
)

var write = flag.Bool("write", false, "write wire/openapi.json")

// object is JSON.
type object = map[string]any

// pathParameters describe the parameters of paths, with an example each.
var pathParameters = map[string][2]string{
	"room": {"The name of a room.", weir}, "user": {"The id of a person.", "e-01"}, "session": {"The id of a session.", "session-7qk2"},
	"hook": {"The id of a hook.", "hook-4f1c"}, "delivery": {"The id of a delivery.", "12"}, "key": {"The id of a key.", "key-93bd"}, "kid": {"The id of a key that verifies tokens.", "watch-house"},
	"realm": {"The name of a realm.", "training"}, "node": {"The name of a node.", "heron"}, "link": {"The number of a link of the session.", "1"}, "code": {"The code of a problem.", "unknown-room"}, "profile": {"The name of a profile.", "heap"},
	"ask": {"The id of an ask.", "ask-2c9e"}, "invitation": {"The id of an invitation.", "invitation-81fd"},
}

// topicWords describe the topics of operations.
var topicWords = map[string]string{
	"Service": "The service itself, and what describes it.", "Rooms": "Who is in rooms, and how many.", "People": "People as such, and their sessions.",
	"Records": "What happened, and what is kept.", "Hooks": "What other services are told.", "Administration": "Policies, configuration and measures.",
	"Keys and realms": "Who may ask, and in which realm.", "Links": "What the clients of people use.", "Console": "What browsers use that sign in.", "Meeting": "People who ask to be let into rooms, or are invited.",
}

// codesOf returns all problems of an operation: its own, and those of its kind.
func codesOf(op httpapi.Operation) []string {
	codes := slices.Clone(op.Fails)
	add := func(when bool, more ...string) {
		for _, code := range more {
			if when && !slices.Contains(codes, code) {
				codes = append(codes, code)
			}
		}
	}
	role, operated := access.ParseRole(op.Shows)
	add(true, wire.CodeTooLarge)
	add(operated, wire.CodeNoKey, wire.CodeBadKey, wire.CodeLockedOut, wire.CodeTooFast)
	add(operated && (role != access.Read || op.Reach != httpapi.ReachRooms), wire.CodeWrongRole)
	add(operated && op.Method != "GET", wire.CodeBadField, wire.CodeKeyReused)
	add(operated && strings.Contains(op.Path, "{room}"), "bad-room")
	add(operated && strings.Contains(op.Path, "{user}"), "bad-user")
	add(operated && op.Takes != nil && op.Media == "", wire.CodeNotJSON)
	add(operated && slices.ContainsFunc(op.Query, func(p httpapi.Parameter) bool { return badValue(p) != "" }), wire.CodeBadField)
	return codes
}

// badValue returns an invalid value of a parameter; empty if all are valid.
func badValue(p httpapi.Parameter) string {
	_, whole := p.Example.(int)
	switch {
	case p.OneOf != nil:
		return "nonsense"
	case whole, p.Name == "from", p.Name == "to", p.Name == "kind":
		return "whenever"
	}
	return ""
}

// document makes the OpenAPI document, without examples of answers.
func document(t *testing.T) object {
	t.Helper()
	reflector := &describing.Reflector{AllowAdditionalProperties: true, Anonymous: true, Mapper: func(t reflect.Type) *describing.Schema {
		switch t {
		case reflect.TypeFor[wire.Time](), reflect.TypeFor[time.Time]():
			return &describing.Schema{Type: "string", Format: "date-time"}
		case reflect.TypeFor[json.RawMessage]():
			return &describing.Schema{Description: "any JSON"}
		}
		return nil
	}}
	here, err := os.Getwd()
	require.NoError(t, err)
	require.NoError(t, os.Chdir(filepath.Join(here, "../..")))
	err = reflector.AddGoComments("tovik.example/tovik", "wire", describing.WithFullComment())
	require.NoError(t, os.Chdir(here))
	require.NoError(t, err)
	schemas := object{}
	schemaOf := func(value any) object {
		if _, free := value.(object); free {
			return object{"type": "object"}
		}
		var schema object
		reflector.DoNotReference = false
		text, err := json.Marshal(reflector.Reflect(value))
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(bytes.ReplaceAll(text, []byte("#/$defs/"), []byte("#/components/schemas/")), &schema))
		for name, definition := range schema["$defs"].(object) {
			properties, _ := definition.(object)["properties"].(object)
			for field, one := range properties {
				if one == true { // as the library writes what may be anything
					properties[field] = object{"description": "any JSON"}
				}
			}
			schemas[name] = definition
		}
		return object{"$ref": schema["$ref"]}
	}
	schemaOf(wire.Document{})
	paths, problems := object{}, object{}
	var topics []any
	for _, op := range httpapi.Operations() {
		if !slices.ContainsFunc(topics, func(topic any) bool { return topic.(object)["name"] == op.Topic }) {
			topics = append(topics, object{"name": op.Topic, "description": topicWords[op.Topic]})
		}
		one := object{"operationId": op.ID, "tags": []any{op.Topic}, "summary": op.Says, "security": securityOf(op)}
		if text := strings.TrimSpace(op.More + needs(op)); text != "" {
			one["description"] = text
		}
		var parameters []any
		for word := range strings.SplitSeq(op.Path, "/") {
			if name, ok := strings.CutPrefix(word, "{"); ok {
				name = strings.TrimSuffix(name, "}")
				parameters = append(parameters, object{"name": name, "in": "path", "required": true, "description": pathParameters[name][0], "schema": object{"type": "string"}, "example": pathParameters[name][1]})
			}
		}
		for _, p := range op.Query {
			schema := object{"type": "string"}
			if _, whole := p.Example.(int); whole {
				schema = object{"type": "integer"}
			}
			if p.OneOf != nil {
				schema["enum"] = p.OneOf
			}
			one := object{"name": p.Name, "in": "query", "description": p.Says, "schema": schema}
			if p.Repeats {
				one["schema"] = object{"type": "array", "items": schema}
			}
			if p.Example != nil && p.Repeats {
				one["example"] = []any{p.Example}
			} else if p.Example != nil {
				one["example"] = p.Example
			}
			parameters = append(parameters, one)
		}
		if _, operated := access.ParseRole(op.Shows); operated && op.Method != "GET" {
			parameters = append(parameters, object{"$ref": "#/components/parameters/idempotencyKey"})
		}
		if parameters != nil {
			one["parameters"] = parameters
		}
		if op.Takes != nil {
			media, schema := op.Media, object{"type": "string"}
			if media == "" {
				media, schema = "application/json", schemaOf(op.Takes)
			}
			content := object{media: object{"schema": schema, "example": op.Takes}}
			if op.ID == "importPeople" {
				content["application/x-ndjson"] = object{"schema": object{"type": "string"}, "example": "{\"user\":\"w-03\",\"name\":\"Hanne Leveson-Bank\"}\n"}
			}
			one["requestBody"] = object{"required": true, "content": content}
		}
		one["responses"] = responses(op, schemaOf, problems)
		if op.ID == "addHook" {
			one["callbacks"] = object{"event": object{"{$request.body#/url}": object{"post": object{
				"operationId": "receiveEvent", "tags": []any{op.Topic}, "summary": "An event, as your back end receives it", "security": []any{},
				"description": "The body is a CloudEvent 1.0, signed according to Standard Webhooks. An event may come more than once, with the same id. After any answer but 2xx within ten seconds it comes again later.",
				"requestBody": object{"required": true, "content": object{"application/cloudevents+json": object{"schema": schemaOf(wire.Event{})}}},
				"responses":   object{"204": object{"description": "Handled."}, "410": object{"description": "Nobody wants these events any more: the hook is paused."}},
			}}}}
		}
		if paths[op.Path] == nil {
			paths[op.Path] = object{}
		}
		paths[op.Path].(object)[strings.ToLower(op.Method)] = one
	}
	schemaOf(wire.Claims{})
	var types []any
	for _, kind := range append(slices.Clone(hooks.Kinds), hooks.Test) {
		types = append(types, "tovik."+kind)
	}
	at(schemas, "Event", "properties", "type")["enum"] = types
	for _, name := range []string{"Beating", "NewHook", "NewKey"} { // their lists may be left out, which is another thing than empty
		schema := schemas[name].(object)
		required := slices.DeleteFunc(schema["required"].([]any), func(field any) bool { return field == "rooms" || field == "typing" })
		if schema["required"] = required; len(required) == 0 {
			delete(schema, "required")
		}
	}
	doc := object{
		"openapi": "3.1.0",
		"info": object{"title": "Tovik", "version": "1", "summary": "Who is here, who is away, who is typing, how many, and since when.", "license": object{"name": "MIT", "identifier": "MIT"},
			"description": "Every error is a problem document (RFC 9457); its type is a page that explains it. Every answer has the id of its request in X-Request-ID; a request may bring its own. " +
				"Operators and back ends send a key as bearer; RateLimit says how many requests are left. Answers have an ETag, are 304 for a client that has them, and are compressed with gzip on request. " +
				"A write with an Idempotency-Key is carried out once, however often it is sent, for a day as long as the service runs. Lists come as JSON, NDJSON or CSV, and as event streams where they can be followed."},
		"servers": []any{object{"url": "/"}}, "tags": topics, "paths": paths,
		"components": object{"schemas": schemas, "responses": problems,
			"securitySchemes": object{
				"key":     object{"type": "http", "scheme": "bearer", "description": "A key of an operator or back end."},
				"token":   object{"type": "http", "scheme": "bearer", "bearerFormat": "JWT", "description": "The token of a person (RFC 7519), minted by the back end."},
				"session": object{"type": "http", "scheme": "bearer", "description": "The resume key of a session, from the answer to its hello."},
				"console": object{"type": "apiKey", "in": "cookie", "name": "tovik-console", "description": "The sign-in of a browser at the console."},
			},
			"parameters": object{"idempotencyKey": object{"name": "Idempotency-Key", "in": "header", "description": "Names this request, so that it is carried out once however often it is sent: 1 to 255 characters, as of a UUID.", "schema": object{"type": "string"}}},
			"headers": object{
				"ETag":            object{"description": "The state of the answer.", "schema": object{"type": "string"}},
				"RateLimit":       object{"description": "The number of requests left (r), and the seconds until all are available again (t).", "schema": object{"type": "string"}},
				"RateLimitPolicy": object{"description": "The number of requests at once (q), and the seconds until they are available again (w).", "schema": object{"type": "string"}},
				"RequestID":       object{"description": "The id of the request.", "schema": object{"type": "string"}},
			}},
	}
	text, err := json.Marshal(doc) // so that everything in it is plain
	require.NoError(t, err)
	var plain object
	require.NoError(t, json.Unmarshal(text, &plain))
	return plain
}

func securityOf(op httpapi.Operation) []any {
	switch op.Shows {
	case "nothing":
		return []any{}
	case "token", "session":
		return []any{object{op.Shows: []any{}}}
	}
	return []any{object{"key": []any{}}, object{"console": []any{}}}
}

func needs(op httpapi.Operation) string {
	role, ok := access.ParseRole(op.Shows)
	switch {
	case !ok:
		return ""
	case op.Reach == httpapi.ReachService:
		return " Needs the key of the service itself."
	case op.Reach == httpapi.ReachRealm:
		return fmt.Sprintf(" Needs a key with the role %s for all rooms.", role)
	}
	return fmt.Sprintf(" Needs a key with the role %s.", role)
}

func statusOf(op httpapi.Operation) int {
	switch {
	case op.Status != 0:
		return op.Status
	case op.Gives == nil && op.Forms == nil:
		return 204
	}
	return 200
}

// responses describe the answers of an operation. Those that are problems are shared.
func responses(op httpapi.Operation, schemaOf func(any) object, problems object) object {
	headers := object{"X-Request-ID": object{"$ref": "#/components/headers/RequestID"}}
	_, operated := access.ParseRole(op.Shows)
	if operated {
		headers["RateLimit"], headers["RateLimit-Policy"] = object{"$ref": "#/components/headers/RateLimit"}, object{"$ref": "#/components/headers/RateLimitPolicy"}
	}
	done := object{"description": "Done.", "headers": headers}
	content := object{}
	if op.Gives != nil {
		content["application/json"] = object{"schema": schemaOf(op.Gives)}
	}
	for _, form := range op.Forms {
		content[form] = object{"schema": object{"type": "string"}}
		if form == "application/json" {
			content[form] = object{"schema": object{"type": "object"}}
		}
	}
	if len(content) > 0 {
		done["content"], done["description"] = content, "The answer."
	}
	all := object{fmt.Sprint(statusOf(op)): done}
	if operated && op.Method == "GET" && op.Gives != nil {
		headers["ETag"] = object{"$ref": "#/components/headers/ETag"}
		all["304"] = object{"description": "Unchanged: If-None-Match has the present ETag."}
	}
	byStatus := map[int][]string{}
	for _, code := range codesOf(op) {
		problemType, _ := wire.ProblemTypeOf(code)
		byStatus[problemType.Status] = append(byStatus[problemType.Status], code)
	}
	for status, codes := range byStatus {
		slices.Sort(codes)
		var words []string
		for _, code := range codes {
			problemType, _ := wire.ProblemTypeOf(code)
			words = append(words, fmt.Sprintf("%s (`%s`)", problemType.Title, code))
		}
		name := fmt.Sprint(status, "-", strings.Join(codes, "."))
		all[fmt.Sprint(status)] = object{"$ref": "#/components/responses/" + name}
		problems[name] = object{"description": strings.Join(words, ", ") + ".", "content": object{"application/problem+json": object{"schema": object{
			"allOf": []any{object{"$ref": "#/components/schemas/Document"}, object{"type": "object", "properties": object{"code": object{"enum": codes}}}}}}}}
	}
	return all
}
