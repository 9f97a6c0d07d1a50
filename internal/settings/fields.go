package settings

import (
	"reflect"
	"strings"
)

// Field is a field of a section, as its tags describe it.
type Field struct {
	Path  string // within the section: "address", "tls.root"
	Type  Type
	Title string
	// Doc is a sentence or two, without its full stop.
	Doc      string
	Example  string
	Default  string
	Unit     string
	Choices  []string
	Flag     string // empty for a part that is there only with its fields
	When     string
	Instead  string
	Required bool
	Secret   bool
	Advanced bool
}

// About is what the field is, in a line: its meaning or else its title, its choices,
// and what holds where it is absent.
func (f *Field) About() string {
	about := f.Doc
	if about == "" {
		about = f.Title
	}
	if f.Instead != "" {
		about += ", instead of " + f.Instead
	}
	if len(f.Choices) > 0 && !strings.Contains(about, f.Choices[len(f.Choices)-1]) {
		about += ": " + strings.Join(f.Choices, ", ")
	}
	if f.Default != "" && !strings.Contains(about, "default") && !strings.Contains(about, f.Default+" without it") {
		about += " (default " + f.Default + ")"
	}
	return about
}

// Type is what a field holds.
type Type string

// The types of fields.
const (
	Text   Type = "text"
	Number Type = "number"
	Switch Type = "yes or no"
	List   Type = "list"
	Pairs  Type = "names and values"
	Part   Type = "section" // its fields follow
)

// noFlag says that a field has no flag: it is a list of sections.
const noFlag = "-"

// Fields are those of a section, a pointer to a struct, in their order; a part's own
// fields follow it.
func Fields(section any) []Field {
	return fields(reflect.TypeOf(section).Elem(), "", false)
}

func fields(t reflect.Type, at string, advanced bool) (all []Field) {
	for i := range t.NumField() {
		f := t.Field(i)
		name := jsonName(f)
		if f.Anonymous && name == "" && inner(f.Type).Kind() == reflect.Struct {
			all = append(all, fields(inner(f.Type), at, advanced)...)
		}
		if name == "" {
			continue
		}
		tag := f.Tag
		one := Field{Path: strings.TrimPrefix(at+"."+name, "."), Title: tag.Get("title"), Doc: tag.Get("doc"), Example: tag.Get("example"), Default: tag.Get("default"), Unit: tag.Get("unit"),
			Flag: tag.Get("flag"), When: tag.Get("when"), Instead: tag.Get("instead"), Secret: tag.Get("secret") == "yes", Advanced: advanced || tag.Get("advanced") == "yes",
			Required: !strings.Contains(tag.Get("json"), ",omitempty") && tag.Get("required") != "false"}
		if choices := tag.Get("enum"); choices != "" {
			one.Choices = strings.Split(choices, ",")
		}
		one.Type = typeOf(inner(f.Type))
		if one.Flag == "" && one.Type != Part {
			one.Flag = strings.NewReplacer(".", "-", "_", "-").Replace(one.Path)
		}
		if one.Flag == noFlag {
			one.Flag = ""
		}
		all = append(all, one)
		if one.Type == Part {
			all = append(all, fields(inner(f.Type), one.Path, one.Advanced)...)
		}
	}
	return all
}

func inner(t reflect.Type) reflect.Type {
	if t.Kind() == reflect.Pointer {
		return t.Elem()
	}
	return t
}

func typeOf(t reflect.Type) Type {
	switch t.Kind() {
	case reflect.Struct:
		return Part
	case reflect.Bool:
		return Switch
	case reflect.Slice:
		return List
	case reflect.Map:
		return Pairs
	case reflect.Int, reflect.Int64, reflect.Uint16:
		return Number
	default:
		return Text
	}
}

// Markdown is a table of the fields of a section, for the documentation.
func Markdown(section string, fields []Field) string {
	var b strings.Builder
	b.WriteString("| field | flag | what it is |\n|---|---|---|\n")
	for _, f := range fields {
		flag := ""
		if f.Flag != "" {
			flag = "`--" + f.Flag + "`"
		}
		about := f.About()
		if f.Required {
			about = "**needed**; " + about
		}
		b.WriteString("| `" + section + "." + f.Path + "` | " + flag + " | " + strings.ReplaceAll(about, "|", `\|`) + " |\n")
	}
	return b.String()
}
