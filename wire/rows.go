package wire

import (
	"encoding/json"
	"reflect"
	"strconv"
	"strings"
)

// Columns names the cells of documents of a type as a table has them: the members of its
// JSON in their order, those of objects in it with their name before, as in online_people.
func Columns(t reflect.Type) []string {
	var names []string
	eachCell(t, reflect.Value{}, "", func(name string, _ reflect.Value, _ bool) { names = append(names, name) })
	return names
}

// Cells are the cells of a document in the order of [Columns]: times as RFC 3339, lists of
// words with a space between, other lists and free objects as JSON, what is left out empty.
func Cells(document any) []string {
	v := reflect.ValueOf(document)
	var cells []string
	eachCell(v.Type(), v, "", func(_ string, cell reflect.Value, omitted bool) { cells = append(cells, cellText(cell, omitted)) })
	return cells
}

// eachCell walks a struct; value is the zero Value where there is none.
func eachCell(t reflect.Type, v reflect.Value, prefix string, each func(name string, cell reflect.Value, omitted bool)) {
	if t.Kind() == reflect.Pointer {
		t = t.Elem()
		if v.IsValid() {
			v = v.Elem() // of a nil pointer: the zero Value
		}
	}
	for i := range t.NumField() {
		f := t.Field(i)
		name, options, _ := strings.Cut(f.Tag.Get("json"), ",")
		if name == "" && !f.Anonymous {
			name = strings.ToLower(f.Name)
		}
		if name == "-" || !f.IsExported() {
			continue
		}
		var cell reflect.Value
		if v.IsValid() {
			cell = v.Field(i)
		}
		kind := f.Type
		if kind.Kind() == reflect.Pointer {
			kind = kind.Elem()
		}
		switch {
		case f.Anonymous && name == "":
			eachCell(f.Type, cell, prefix, each)
		case kind.Kind() == reflect.Struct && kind != reflect.TypeFor[Time]():
			eachCell(f.Type, cell, prefix+name+"_", each)
		default:
			each(prefix+name, cell, strings.Contains(options, "omit"))
		}
	}
}

func cellText(cell reflect.Value, omitted bool) string {
	if !cell.IsValid() || (omitted && cell.IsZero()) {
		return ""
	}
	if cell.Kind() == reflect.Pointer {
		if cell.IsNil() {
			return ""
		}
		cell = cell.Elem()
	}
	switch value := cell.Interface().(type) {
	case Time:
		return value.UTC().Format(layout)
	case string:
		return value
	case []string:
		return strings.Join(value, " ")
	case bool:
		return strconv.FormatBool(value)
	case float64:
		return strconv.FormatFloat(value, 'f', -1, 64)
	}
	text, err := json.Marshal(cell.Interface())
	if err != nil {
		panic("wire: documents are plain data: " + err.Error())
	}
	return string(text)
}
