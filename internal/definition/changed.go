package definition

import (
	"encoding/json"
	"reflect"
	"slices"
	"strings"
)

// Changed names the fields in which two definitions differ, as paths such as
// connection.host, without what they hold; empty where they say the same.
func Changed(before, after any) string {
	var fields []string
	for _, one := range Differences(before, after) {
		fields = append(fields, one.Field)
	}
	return strings.Join(fields, ", ")
}

// Difference is a field in which two definitions differ, with what it holds in each, as JSON; empty
// where it is not there.
type Difference struct{ Field, Before, After string }

// Differences are those of two definitions, by their fields.
func Differences(before, after any) []Difference {
	var all []Difference
	differ(tree(before), tree(after), "", &all)
	slices.SortFunc(all, func(a, b Difference) int { return strings.Compare(a.Field, b.Field) })
	return all
}

func tree(d any) (t any) {
	raw, err := json.Marshal(d)
	if err == nil {
		err = json.Unmarshal(raw, &t)
	}
	if err != nil {
		panic(err) // definitions are strings, numbers and lists of them
	}
	return t
}

func differ(a, b any, at string, all *[]Difference) {
	one, isMap := a.(map[string]any)
	other, both := b.(map[string]any)
	if !isMap || !both {
		if !reflect.DeepEqual(a, b) {
			*all = append(*all, Difference{at, said(a), said(b)})
		}
		return
	}
	names := make(map[string]bool)
	for name := range one {
		names[name] = true
	}
	for name := range other {
		names[name] = true
	}
	for name := range names {
		differ(one[name], other[name], strings.TrimPrefix(at+"."+name, "."), all)
	}
}

func said(v any) string {
	if v == nil {
		return ""
	}
	raw, err := json.Marshal(v)
	if err != nil {
		panic(err) // it has been read from JSON
	}
	return string(raw)
}
