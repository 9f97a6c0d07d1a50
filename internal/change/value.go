package change

import "encoding/binary"

// Presence distinguishes a value from a null and from one that the log
// did not carry. The last is never shown as null.
type Presence uint8

// The presences, in the numbering of the journal's binary form.
const (
	Omitted Presence = iota // the log did not carry this column
	Null
	Present
)

// Value is one column's value. Text holds it in the canonical form that the
// column's [Rule] describes; binary values are held raw. Who hands out a Value
// owns Text; unless it says otherwise, Text is good only until the next call.
type Value struct {
	Presence Presence
	Text     []byte
}

// Of is a value that is there.
func Of(text string) Value { return Value{Presence: Present, Text: []byte(text)} }

// NullValue is an SQL null.
func NullValue() Value { return Value{Presence: Null} }

// Equal reports whether both are the same, an omitted value being equal to
// nothing but another omitted one.
func (v Value) Equal(w Value) bool {
	return v.Presence == w.Presence && string(v.Text) == string(w.Text)
}

// Clone is a value whose text nobody else owns.
func (v Value) Clone() Value {
	if v.Presence == Present {
		v.Text = append([]byte(nil), v.Text...)
	}
	return v
}

// CloneImage copies a whole image; a nil image stays nil.
func CloneImage(image []Value) []Value {
	if image == nil {
		return nil
	}
	copied := make([]Value, len(image))
	size := 0
	for _, v := range image {
		size += len(v.Text)
	}
	arena := make([]byte, 0, size)
	for i, v := range image {
		copied[i].Presence = v.Presence
		if v.Presence == Present {
			start := len(arena)
			arena = append(arena, v.Text...)
			copied[i].Text = arena[start:len(arena):len(arena)]
		}
	}
	return copied
}

// RowKey makes one string of a key's values; different keys differ.
func RowKey(values []Value) string {
	var b []byte
	for _, v := range values {
		b = append(b, byte(v.Presence))
		b = binary.AppendUvarint(b, uint64(len(v.Text)))
		b = append(b, v.Text...)
	}
	return string(b)
}

// Completed is an image in which omitted values are those of an older image of the same row,
// as far as that has them. Images are read-only for whoever was handed them, and often shared:
// the result is a copy where anything was filled in, else newer itself. Its texts are those of
// both. An older image of another number of columns fills nothing.
func Completed(newer, older []Value) []Value {
	if len(older) != len(newer) || !Omits(newer) {
		return newer
	}
	completed := make([]Value, len(newer))
	copy(completed, newer)
	for i := range completed {
		if completed[i].Presence == Omitted {
			completed[i] = older[i]
		}
	}
	return completed
}

// Omits reports whether any value of an image was left out.
func Omits(image []Value) bool {
	for i := range image {
		if image[i].Presence == Omitted {
			return true
		}
	}
	return false
}
