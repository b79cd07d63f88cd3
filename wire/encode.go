package wire

import "encoding/json"

// Encode returns the JSON of a frame. Frames are plain data, so it does not fail.
func Encode(frame any) []byte {
	text, err := json.Marshal(frame)
	if err != nil {
		panic("wire: frames are plain data: " + err.Error())
	}
	return text
}
