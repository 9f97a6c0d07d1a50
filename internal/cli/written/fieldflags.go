package written

import (
	"fmt"
	"maps"
	"slices"
	"strconv"
	"strings"

	"github.com/spf13/pflag"

	"rillmark/internal/cli/terminal"
	"rillmark/internal/destination/kinds"
	"rillmark/internal/settings"
)

// Flags are what every command has that defines something: a file, flags for its
// fields, and --set.
type Flags struct {
	File   string
	Fields FieldFlags
	Set    SetFlag
}

// Register adds the file and --set; the fields' flags follow.
func (f *Flags) Register(flags *pflag.FlagSet) {
	flags.StringVarP(&f.File, "file", "f", "", "definition in YAML; - for standard input. Flags go before it")
	f.Set.Register(flags)
}

// Begin is the definition in the file, or else an empty one, or what lacking says where
// that cannot be meant.
func (f *Flags) Begin(s *terminal.Session, lacking func() error) (*File, error) {
	if f.File == "" {
		return &File{Name: "command line"}, lacking()
	}
	d, err := ReadDefinition(s, f.File)
	if err == nil {
		_, err = d.Record()
	}
	return d, err
}

// FieldFlags are flags for the fields of definitions. They are made of the fields' own
// descriptions, so that a new field, or a new kind, has its flags.
type FieldFlags struct {
	// Common are the fields that stand for themselves: each flag's path.
	Common map[string]string
	// Sections are those that stand in a kind's section: for each flag the path by kind.
	Sections map[string]map[string]string
}

// AddCommon adds flags for the fields of a definition. Those that few people need are
// not in the help text, which would hide the others.
func (f *FieldFlags) AddCommon(flags *pflag.FlagSet, fields []settings.Field) {
	f.Common = make(map[string]string)
	for _, field := range fields {
		if field.Flag == "" {
			continue
		}
		f.Common[field.Flag] = field.Path
		AddFlag(flags, &field, field.About())
	}
}

// AddSections adds flags for the fields of each kind's section. A flag that several
// kinds have stands for the field of the kind that is meant.
func (f *FieldFlags) AddSections(flags *pflag.FlagSet, section func(kind string) any) {
	f.Sections = make(map[string]map[string]string)
	for _, k := range kinds.All {
		empty := section(k.Name)
		if empty == nil {
			continue
		}
		for _, field := range settings.Fields(empty) {
			if field.Flag == "" {
				continue
			}
			if f.Sections[field.Flag] == nil {
				f.Sections[field.Flag] = make(map[string]string)
				AddFlag(flags, &field, k.Name+": "+field.About())
			} else {
				known := flags.Lookup(field.Flag)
				of, about, _ := strings.Cut(known.Usage, ": ")
				known.Usage = of + ", " + k.Name + ": " + about
				known.Hidden = known.Hidden && field.Advanced
			}
			f.Sections[field.Flag][k.Name] = k.Name + "." + field.Path
		}
	}
}

// AddFlag adds a field's flag, with words for what it says.
func AddFlag(flags *pflag.FlagSet, field *settings.Field, usage string) {
	if field.Secret {
		usage += "; one typed here ends up in the shell's history"
	}
	usage = strings.ReplaceAll(usage, "`", "'") // pflag takes what is in backquotes for the value's name
	switch field.Type {
	case settings.Number:
		flags.Int64(field.Flag, 0, usage)
	case settings.Switch:
		flags.Bool(field.Flag, false, usage)
	case settings.Part:
		flags.Var(new(partFlag), field.Flag, usage)
		flags.Lookup(field.Flag).NoOptDefVal = "true"
	case settings.List:
		flags.Var(NamesIn(new([]string)), field.Flag, usage+", with commas between them or repeated")
	case settings.Pairs:
		flags.Var(&pairsFlag{}, field.Flag, usage+", as name=value; repeated for more")
	default:
		flags.String(field.Flag, "", usage)
	}
	flags.Lookup(field.Flag).Hidden = field.Advanced
}

// pairsFlag are names with values, one pair each time it is given. A value is taken as it is,
// with whatever signs are in it.
type pairsFlag map[string]string

// String implements [pflag.Value].
func (p *pairsFlag) String() string {
	parts := make([]string, 0, len(*p))
	for _, name := range slices.Sorted(maps.Keys(*p)) {
		parts = append(parts, name+"="+(*p)[name])
	}
	return strings.Join(parts, " ")
}

// Set implements [pflag.Value].
func (p *pairsFlag) Set(text string) error {
	name, value, found := strings.Cut(text, "=")
	if !found {
		return fmt.Errorf("write name=value")
	}
	(*p)[strings.TrimSpace(name)] = strings.TrimSpace(value)
	return nil
}

// Type implements [pflag.Value].
func (p *pairsFlag) Type() string { return "name=value" }

// partFlag says that a part of a definition is there, with nothing in it but what other
// flags put there.
type partFlag bool

// String implements [pflag.Value].
func (p *partFlag) String() string { return strconv.FormatBool(bool(*p)) }

// Set implements [pflag.Value].
func (p *partFlag) Set(text string) error {
	there, err := strconv.ParseBool(text)
	*p = partFlag(there)
	return err
}

// Type implements [pflag.Value]; help texts show none.
func (p *partFlag) Type() string { return "bool" }

// Given are the flags for sections that were given, in their order.
func (f *FieldFlags) Given(flags *pflag.FlagSet) (names []string) {
	flags.Visit(func(one *pflag.Flag) {
		if f.Sections[one.Name] != nil {
			names = append(names, one.Name)
		}
	})
	return names
}

// KindOf is the kind that the given flags can only mean; empty where none of them was
// given.
func (f *FieldFlags) KindOf(flags *pflag.FlagSet) (string, error) {
	var left []string
	given := f.Given(flags)
	for _, k := range kinds.All {
		if !slices.ContainsFunc(given, func(flag string) bool { return f.Sections[flag][k.Name] == "" }) {
			left = append(left, k.Name)
		}
	}
	switch {
	case len(given) == 0:
		return "", nil
	case len(left) == 0:
		return "", terminal.Usage("--%s do not go together: no kind has them all; `rillmark destination kinds` lists what each has", strings.Join(given, " and --"))
	case len(left) > 1:
		return "", terminal.Usage("--%s can mean several kinds: say --kind %s", strings.Join(given, " and --"), strings.Join(left, " or "))
	}
	return left[0], nil
}

// Places are the paths that the flags stand for, where sections are a kind's.
func (f *FieldFlags) Places(flags *pflag.FlagSet, kind string) (map[string]string, error) {
	places := make(map[string]string)
	for flag, path := range f.Common {
		places[flag] = path
	}
	for _, flag := range f.Given(flags) {
		path := f.Sections[flag][kind]
		if path == "" {
			return nil, terminal.Usage("--%s is not for kind %s; `rillmark destination kinds %s` lists what it has", flag, kind, kind)
		}
		places[flag] = path
	}
	return places, nil
}
