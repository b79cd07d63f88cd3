// Package strictjson reads JSON from outside. Names must match exactly, an object must not
// repeat a name, and text must be UTF-8 (RFC 8259, RFC 7493). Members that the receiver does not
// define are ignored, whatever they contain.
//
// Every error is a [*wire.Problem] that names the field, its value and what is allowed. The
// package imports only wire.
package strictjson

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"reflect"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	jsonv2 "github.com/go-json-experiment/json"
	"github.com/go-json-experiment/json/jsontext"

	"tovik.example/tovik/wire"
)

// Object is a JSON object whose members have been found but not decoded.
type Object []Member

// Member is a name and its value, which shares memory with the input.
type Member struct {
	Name  string
	Value jsontext.Value
}

// Read decodes one JSON object into the struct that into points to.
func Read(data []byte, into any) error {
	object, err := Scan(data)
	if err != nil {
		return err
	}
	return object.Into(into)
}

// Scan finds the members of one JSON object. With an error it returns the members before the
// fault, so that a request can be answered by its id.
func Scan(data []byte) (Object, error) {
	d := decoders.Get().(*jsontext.Decoder)
	d.Reset(bytes.NewBuffer(data))
	defer func() {
		d.Reset(nothing{}) // it would keep data
		decoders.Put(d)
	}()
	switch kind := d.PeekKind(); kind {
	case '{':
	case '[', '"', '0', 't', 'f', 'n':
		value, err := d.ReadValue()
		if err != nil {
			return nil, syntax(err)
		}
		return nil, notJSON(fmt.Sprintf("this is %s, not an object", kindOf(value)))
	default:
		_, err := d.ReadToken()
		return nil, syntax(err)
	}
	if _, err := d.ReadToken(); err != nil {
		return nil, syntax(err)
	}
	object := make(Object, 0, min(bytes.Count(data, []byte(":")), 8))
	for d.PeekKind() != '}' {
		name, err := d.ReadToken()
		if err != nil {
			return object, syntax(err)
		}
		member := Member{Name: name.String()}
		value, err := d.ReadValue()
		if err != nil {
			return object, syntax(err)
		}
		// ReadValue's result is part of data, and valid until the next call.
		end := d.InputOffset()
		member.Value = data[end-int64(len(value)) : end]
		object = append(object, member)
	}
	if _, err := d.ReadToken(); err != nil {
		return object, syntax(err)
	}
	if rest := bytes.TrimLeft(data[d.InputOffset():], " \t\r\n"); len(rest) > 0 {
		return object, notJSON("something follows the object")
	}
	return object, nil
}

// decoders holds decoders with the memory in which they look for names that come twice.
var decoders = sync.Pool{New: func() any { return jsontext.NewDecoder(nothing{}) }}

type nothing struct{}

func (nothing) Read([]byte) (int, error) { return 0, io.EOF }

// Get returns the value of a member, nil when there is none.
func (o Object) Get(name string) jsontext.Value {
	for _, m := range o {
		if m.Name == name {
			return m.Value
		}
	}
	return nil
}

// Into decodes the members into the struct that into points to: all that it defines, or only the
// named ones.
func (o Object) Into(into any, only ...string) error {
	target := reflect.ValueOf(into).Elem()
	fields := fieldsOf(target.Type())
	for _, m := range o {
		index, defined := fields[m.Name]
		if !defined || (only != nil && !slices.Contains(only, m.Name)) {
			continue
		}
		field := target.FieldByIndex(index)
		if plain(m.Value, field.Addr().Interface()) {
			continue
		}
		if err := jsonv2.Unmarshal(m.Value, field.Addr().Interface()); err != nil {
			return mismatch(m, field.Type(), err)
		}
	}
	return nil
}

// plain decodes a value of the kinds that most frames have: a string without escapes, a list of such strings, true or
// false, or a short whole number. It reports whether the value is one. The general way decodes them the same, but takes
// twice as long.
func plain(value jsontext.Value, into any) bool {
	switch into := into.(type) {
	case *string:
		text, ok := unescaped(value)
		if ok {
			*into = string(text)
		}
		return ok
	case *[]string:
		list, ok := listOf(value)
		if ok {
			*into = list
		}
		return ok
	case *bool:
		is, ok := value[0] == 't', value[0] == 't' || value[0] == 'f'
		if ok {
			*into = is
		}
		return ok
	case *int:
		n, ok := short(value)
		if ok {
			*into = n
		}
		return ok
	}
	return false
}

// unescaped returns the text of a string that has no escapes.
func unescaped(value jsontext.Value) (text []byte, ok bool) {
	if value[0] != '"' || bytes.IndexByte(value, '\\') >= 0 {
		return nil, false
	}
	return value[1 : len(value)-1], true
}

// listOf returns a list of strings that have no escapes.
func listOf(value jsontext.Value) (list []string, ok bool) {
	if value[0] != '[' || bytes.IndexByte(value, '\\') >= 0 {
		return nil, false
	}
	list = make([]string, 0, bytes.Count(value, []byte{'"'})/2)
	for rest := value[1:]; ; {
		rest = bytes.TrimLeft(rest, ", \t\r\n")
		if rest[0] != '"' {
			return list, rest[0] == ']'
		}
		end := 1 + bytes.IndexByte(rest[1:], '"')
		list = append(list, string(rest[1:end]))
		rest = rest[end+1:]
	}
}

// short returns a whole number from 0 on that has few digits.
func short(value jsontext.Value) (n int, ok bool) {
	for _, digit := range value {
		if digit < '0' || digit > '9' || len(value) > 9 {
			return 0, false
		}
		n = 10*n + int(digit-'0')
	}
	return n, true
}

// String decodes a member that must be a string; empty if it is missing.
func (o Object) String(name string) (text string, err error) {
	if value := o.Get(name); value != nil {
		if value.Kind() == '"' {
			if unquoted, err := jsontext.AppendUnquote(make([]byte, 0, 32), value); err == nil {
				return string(unquoted), nil
			}
		}
		if err := jsonv2.Unmarshal(value, &text); err != nil {
			return "", mismatch(Member{name, value}, reflect.TypeFor[string](), err)
		}
	}
	return text, nil
}

// known caches the fields of types by their JSON names.
var known sync.Map // of reflect.Type to map[string][]int

func fieldsOf(t reflect.Type) map[string][]int {
	if fields, ok := known.Load(t); ok {
		return fields.(map[string][]int)
	}
	fields := map[string][]int{}
	for _, f := range reflect.VisibleFields(t) {
		name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
		if f.IsExported() && name != "" && name != "-" {
			fields[name] = f.Index
		}
	}
	known.Store(t, fields)
	return fields
}

func notJSON(detail string) error {
	return &wire.Problem{Code: wire.CodeNotJSON, Detail: detail, Allowed: "one JSON object (RFC 8259)"}
}

// syntax returns the problem of a syntax error.
func syntax(err error) error {
	var syntactic *jsontext.SyntacticError
	if !errors.As(err, &syntactic) {
		return notJSON("this is not JSON: it ends too early")
	}
	if errors.Is(err, jsontext.ErrDuplicateName) {
		return &wire.Problem{Code: wire.CodeBadField, Field: wire.Shorten(path(syntactic.JSONPointer)),
			Detail: "the object has this name twice", Allowed: "each name once"}
	}
	reason := strings.TrimPrefix(syntactic.Err.Error(), "jsontext: ")
	return notJSON("this is not JSON: " + reason + " at byte " + strconv.FormatInt(syntactic.ByteOffset, 10))
}

// mismatch returns the problem of a value that does not fit its field.
func mismatch(m Member, t reflect.Type, err error) error {
	problem := &wire.Problem{Code: wire.CodeBadField, Field: m.Name, Value: wire.Shorten(string(m.Value)), Detail: "the field has a value of the wrong kind"}
	var semantic *jsonv2.SemanticError
	if errors.As(err, &semantic) {
		if inner := path(semantic.JSONPointer); inner != "" {
			problem.Field += "." + inner
			problem.Value = wire.Shorten(string(valueAt(m.Value, semantic.JSONPointer)))
		}
		if semantic.GoType != nil {
			t = semantic.GoType
		}
	} else {
		return syntax(err)
	}
	problem.Allowed = describe(t)
	return problem
}

// valueAt returns the value at a pointer (RFC 6901).
func valueAt(value jsontext.Value, pointer jsontext.Pointer) jsontext.Value {
	for step := range pointer.Tokens() {
		if value.Kind() == '[' {
			var list []jsontext.Value
			i, err := strconv.Atoi(step)
			if err != nil || jsonv2.Unmarshal(value, &list) != nil || i >= len(list) {
				return nil
			}
			value = list[i]
			continue
		}
		var object map[string]jsontext.Value
		if jsonv2.Unmarshal(value, &object) != nil {
			return nil
		}
		value = object[step]
	}
	return value
}

// path converts a pointer to the usual form of a field: watch.0.room.
func path(pointer jsontext.Pointer) string {
	return strings.Join(slices.Collect(pointer.Tokens()), ".")
}

func kindOf(value jsontext.Value) string {
	switch value.Kind() {
	case '[':
		return "a list"
	case '"':
		return "a string"
	case '0':
		return "a number"
	case 'n':
		return "null"
	}
	return "true or false"
}

// describe says which values a field of a type allows.
func describe(t reflect.Type) string {
	switch t {
	case reflect.TypeFor[time.Time](), reflect.TypeFor[wire.Time]():
		return "a time as in RFC 3339: 2026-11-23T03:00:00Z"
	case reflect.TypeFor[json.RawMessage]():
		return "any JSON value"
	}
	switch t.Kind() {
	case reflect.Pointer:
		return describe(t.Elem())
	case reflect.String:
		return "a string"
	case reflect.Bool:
		return "true or false"
	case reflect.Int, reflect.Int8, reflect.Int16, reflect.Int32, reflect.Int64:
		return "a whole number"
	case reflect.Uint, reflect.Uint8, reflect.Uint16, reflect.Uint32, reflect.Uint64:
		return "a whole number from 0 on"
	case reflect.Float32, reflect.Float64:
		return "a number"
	case reflect.Slice, reflect.Array:
		return "a list, each item " + describe(t.Elem())
	}
	return "a JSON object"
}
