package nodes

import (
	"reflect"

	"tovik.example/tovik/internal/cluster"
	"tovik.example/tovik/internal/cluster/coding"
)

// With files, messages and records take the form that they have on a real bus and in a real log.

func (w *world) codedEnvelope(e cluster.Envelope) cluster.Envelope {
	if w.Files == "" {
		return e
	}
	text, err := coding.Envelope(e)
	if err != nil {
		panic(err)
	}
	read, err := coding.ReadEnvelope(text)
	if err != nil {
		panic(err)
	}
	if !reflect.DeepEqual(e, read) {
		w.breaks(FormsAreWhole, "%+v becomes %+v", e, read)
	}
	return read
}

func (w *world) codedRecord(r cluster.Record) cluster.Record {
	if w.Files == "" {
		return r
	}
	text, err := coding.Record(r)
	if err != nil {
		panic(err)
	}
	read, err := coding.ReadRecord(text, newFormat)
	if err != nil {
		panic(err)
	}
	return read
}
