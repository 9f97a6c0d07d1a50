package definition

import (
	"encoding/json"
	"reflect"
	"slices"
	"strings"
)

// Changed names the fields in which two definitions differ, as paths such as
// connection.host, without what they hold.
func Changed(before, after any) string {
	var fields []string
	differ(tree(before), tree(after), "", &fields)
	slices.Sort(fields)
	if len(fields) == 0 {
		return "nothing"
	}
	return strings.Join(fields, ", ")
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

func differ(a, b any, at string, fields *[]string) {
	one, isMap := a.(map[string]any)
	other, both := b.(map[string]any)
	if !isMap || !both {
		if !reflect.DeepEqual(a, b) {
			*fields = append(*fields, at)
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
		differ(one[name], other[name], strings.TrimPrefix(at+"."+name, "."), fields)
	}
}
