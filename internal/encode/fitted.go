package encode

import (
	"encoding/binary"
	"encoding/json"
	"errors"
	"fmt"
	"math"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/hamba/avro/v2"

	"rillmark/internal/change"
	"rillmark/internal/expression"
	"rillmark/internal/foreign"
)

// Fitted is how rows of one version are written after an Avro schema that somebody else has
// made: a field gets the column of its name, or its default where there is none. It does not
// change, and may be used by several goroutines.
type Fitted struct {
	// Frame stands before each value.
	Frame  []byte
	fields []fittedField
}

type fittedField struct {
	name   string
	column int    // -1 for one that no column fills
	bytes  []byte // then what stands there always
	union  bool
	null   int64 // the union's branch of null; -1 for none
	// branches are those that a value may go into, in their order: one that cannot hold a value
	// leaves it to the next.
	branches []fittedBranch
}

type fittedBranch struct {
	at    int64
	write valueWriter
	text  bool
}

// valueWriter appends a value, or says what about it the type does not hold.
type valueWriter func(dst, text []byte) ([]byte, error)

// FieldFit says of one field, or column, what a person has to know of the fit.
type FieldFit struct {
	Field string
	// Misfit says that no row can be written; else it is a thing to know.
	Misfit bool
	Says   string
}

// FitAvro fits a version's rows to a record's schema. fits has what does not fit, and what is
// worth knowing; the Fitted is nil where anything does not.
func FitAvro(s *change.Schema, text string) (f *Fitted, fits []FieldFit, err error) {
	if err := foreign.AvroSchema([]byte(text)); err != nil {
		return nil, nil, fmt.Errorf("the registered schema cannot be read: %w", err)
	}
	parsed, err := avro.ParseBytesWithCache([]byte(text), "", &avro.SchemaCache{})
	if err != nil {
		return nil, nil, fmt.Errorf("the registered schema cannot be read: %w", err)
	}
	record, is := parsed.(*avro.RecordSchema)
	if !is {
		return nil, nil, fmt.Errorf("the registered schema is no record, but %s", parsed.Type())
	}
	names := s.AvroFields()
	f = new(Fitted)
	var used []string
	var open []int // fields that no column fills
	for _, field := range record.Fields() {
		one := fittedField{name: field.Name(), column: slices.Index(names, field.Name())}
		if one.column < 0 {
			open = append(open, len(f.fields))
			f.fields = append(f.fields, one)
			continue
		}
		used = append(used, field.Name())
		fit := one.accept(&s.Columns[one.column], field.Type())
		if fit.Says != "" {
			fits = append(fits, fit)
		}
		f.fields = append(f.fields, one)
	}
	left := slices.DeleteFunc(slices.Clone(names), func(name string) bool { return slices.Contains(used, name) })
	for _, at := range open {
		fits = append(fits, f.fields[at].fill(record.Fields()[at], left))
	}
	for _, name := range left {
		fits = append(fits, FieldFit{Field: name, Says: "the registered schema has no such field: not sent"})
	}
	if slices.ContainsFunc(fits, func(one FieldFit) bool { return one.Misfit }) {
		return nil, fits, nil
	}
	return f, fits, nil
}

// Misfits says which fields do not fit, in one sentence for each.
func Misfits(fits []FieldFit) string {
	var says []string
	for _, one := range fits {
		if one.Misfit {
			says = append(says, one.Field+": "+one.Says)
		}
	}
	return strings.Join(says, "; ")
}

// accept fits a column to a field's type.
func (f *fittedField) accept(c *change.Column, t avro.Schema) FieldFit {
	fit := FieldFit{Field: f.name}
	types := []avro.Schema{t}
	f.null = -1
	if union, is := t.(*avro.UnionSchema); is {
		types, f.union = union.Types(), true
	}
	var refused []string
	for at, one := range types {
		if one.Type() == avro.Null {
			f.null = int64(at)
			continue
		}
		write, note := writerOf(c, one)
		if write == nil {
			refused = append(refused, note)
			continue
		}
		if note != "" && fit.Says == "" {
			fit.Says = note
		}
		f.branches = append(f.branches, fittedBranch{int64(at), write, one.Type() == avro.String})
	}
	// A text can hold everything: it is for what no other branch does.
	text := slices.DeleteFunc(slices.Clone(f.branches), func(b fittedBranch) bool { return !b.text })
	f.branches = append(slices.DeleteFunc(f.branches, func(b fittedBranch) bool { return b.text }), text...)
	switch {
	case len(f.branches) == 0:
		return FieldFit{Field: f.name, Misfit: true, Says: strings.Join(refused, ", and ")}
	case f.null < 0 && c.Nullable:
		fit.Says = strings.TrimPrefix(fit.Says+"; rows in which it is null become dead letters", "; ")
	}
	return fit
}

// fill gives a field that no column fills its default.
func (f *fittedField) fill(field *avro.Field, left []string) FieldFit {
	f.null = -1
	t, at := field.Type(), int64(-1)
	if union, is := t.(*avro.UnionSchema); is {
		t, at = union.Types()[0], 0
		if null := slices.IndexFunc(union.Types(), func(one avro.Schema) bool { return one.Type() == avro.Null }); !field.HasDefault() && null >= 0 {
			f.bytes = binary.AppendVarint(nil, int64(null))
			return FieldFit{Field: f.name, Says: "no column has the name: it is null" + Suggestion(f.name, left)}
		}
	}
	if !field.HasDefault() {
		return FieldFit{Field: f.name, Misfit: true, Says: "no column has the name, and the field has no default" + Suggestion(f.name, left)}
	}
	if at >= 0 {
		f.bytes = binary.AppendVarint(nil, at)
	}
	if t.Type() == avro.Null {
		return FieldFit{Field: f.name, Says: "no column has the name: it is null, its default" + Suggestion(f.name, left)}
	}
	value, err := avro.Marshal(t, field.Default())
	if err != nil {
		return FieldFit{Field: f.name, Misfit: true, Says: "no column has the name, and its default cannot be written: " + err.Error()}
	}
	f.bytes = append(f.bytes, value...)
	return FieldFit{Field: f.name, Says: "no column has the name: it is its default" + Suggestion(f.name, left)}
}

// Suggestion names the one of some columns that may be meant by a name; empty for none.
func Suggestion(name string, columns []string) string {
	if like := expression.Similar(name, columns); like != "" {
		return fmt.Sprintf("; %q may be it: give it the name by a form of rows", like)
	}
	return ""
}

// ErrNotInLog is of a value that the log has left out.
var ErrNotInLog = errors.New("the log does not have the value: ALTER TABLE … REPLICA IDENTITY FULL, or a full row image, puts it there")

// RowForm makes rows of one version what a destination wants them to be, where somebody else has
// decided that. It may be used by several goroutines.
type RowForm interface {
	// Form makes a row, whose values have to stay as they are while it is used. gone says that it
	// is one that is no more, of which the log may have the key alone.
	Form(row []change.Value, gone bool) (any, error)
	// Takes reports whether a column of that name goes out.
	Takes(column string) bool
}

// Takes reports whether a column fills the field of that name.
func (f *Fitted) Takes(field string) bool {
	return slices.ContainsFunc(f.fields, func(one fittedField) bool { return one.name == field && one.column >= 0 })
}

// append writes a row. What the log has left out of it is an error, since a null would stand in
// place of a value that consumers have; of a row that is gone it is null.
func (f *Fitted) append(dst []byte, row []change.Value, gone bool) ([]byte, error) {
	start := len(dst)
	for i := range f.fields {
		one := &f.fields[i]
		if one.column < 0 {
			dst = append(dst, one.bytes...)
			continue
		}
		v := row[one.column]
		var err error
		if v.Presence == change.Omitted && !gone {
			err = ErrNotInLog
		} else {
			dst, err = one.append(dst, v)
		}
		if err != nil {
			return dst[:start], fmt.Errorf("field %s of the registered schema: %w", one.name, err)
		}
	}
	return dst, nil
}

// append writes one value; an integer stands in Avro as [binary.AppendVarint] writes it.
func (f *fittedField) append(dst []byte, v change.Value) ([]byte, error) {
	switch {
	case v.Presence == change.Present:
	case f.null >= 0:
		return binary.AppendVarint(dst, f.null), nil
	case v.Presence == change.Null:
		return dst, errors.New("it takes no null")
	default:
		return dst, errors.New("the log does not have the value, and the field takes no null")
	}
	var why error
	for _, b := range f.branches {
		to := dst
		if f.union {
			to = binary.AppendVarint(to, b.at)
		}
		if to, why = b.write(to, v.Text); why == nil {
			return to, nil
		}
	}
	return dst, why
}

// writerOf says how values of a column are written as an Avro type; nil where they are not, and
// then why.
func writerOf(c *change.Column, t avro.Schema) (write valueWriter, note string) {
	t = named(t)
	logical := logicalOf(t)
	no := func() (valueWriter, string) {
		name := string(t.Type())
		if logical != "" {
			name += " (" + string(logical) + ")"
		}
		return nil, fmt.Sprintf("%s is not written as %s: an expression in a form of rows can turn it into what fits", c.Type, name)
	}
	number := c.Rule == change.RuleInteger || c.Rule == change.RuleUnsigned
	switch {
	case t.Type() == avro.Boolean && c.Rule == change.RuleBoolean:
		return func(dst, text []byte) ([]byte, error) {
			if string(text) == "true" {
				return append(dst, 1), nil
			}
			return append(dst, 0), nil
		}, ""
	case t.Type() == avro.Int && logical == "" && number:
		return integers(32), narrow(c, 32, "int")
	case t.Type() == avro.Long && logical == "" && number:
		return integers(64), narrow(c, 64, "long")
	case t.Type() == avro.Float && c.Rule == change.RuleFloat && c.Bits == 32:
		return func(dst, text []byte) ([]byte, error) {
			n, err := strconv.ParseFloat(string(text), 32)
			return binary.LittleEndian.AppendUint32(dst, math.Float32bits(float32(n))), err
		}, ""
	case t.Type() == avro.Double && (c.Rule == change.RuleFloat || c.Rule == change.RuleInteger && c.Bits > 0 && c.Bits <= 32):
		return func(dst, text []byte) ([]byte, error) {
			n, err := strconv.ParseFloat(string(text), 64)
			return binary.LittleEndian.AppendUint64(dst, math.Float64bits(n)), err
		}, ""
	case logical == avro.Date && c.Rule == change.RuleDate:
		return moments("2006-01-02", func(t time.Time) int64 { return t.Unix() / 86400 }, ""), ""
	case (logical == avro.TimeMicros || logical == avro.TimeMillis) && c.Rule == change.RuleTime:
		return moments("15:04:05.999999", microsOfDay, logical), finer(logical)
	case (logical == avro.TimestampMicros || logical == avro.TimestampMillis) && c.Rule == change.RuleTimestampTZ:
		return moments(time.RFC3339Nano, time.Time.UnixMicro, logical), finer(logical)
	case (logical == avro.LocalTimestampMicros || logical == avro.LocalTimestampMillis) && c.Rule == change.RuleTimestamp:
		return moments("2006-01-02T15:04:05.999999", time.Time.UnixMicro, logical), finer(logical)
	case logical == avro.Decimal && (number || c.Rule == change.RuleDecimal):
		return decimals(c, t)
	case t.Type() == avro.Bytes && logical == "" && c.Rule == change.RuleBinary:
		return counted, ""
	case t.Type() == avro.Fixed && logical == "" && c.Rule == change.RuleBinary:
		size := t.(*avro.FixedSchema).Size()
		return func(dst, text []byte) ([]byte, error) {
			if len(text) != size {
				return dst, fmt.Errorf("it takes %d bytes, and the value has %d", size, len(text))
			}
			return append(dst, text...), nil
		}, fmt.Sprintf("values of other than %d bytes become dead letters", size)
	case t.Type() == avro.Enum && (c.Rule == change.RuleEnum || c.Rule == change.RuleText):
		return labels(c, t.(*avro.EnumSchema).Symbols())
	case t.Type() == avro.Array && c.Rule == change.RuleArray:
		return arrays(c, t.(*avro.ArraySchema).Items())
	case t.Type() == avro.String && (logical == "" || logical == avro.UUID && c.Rule == change.RuleUUID) && c.Rule != change.RuleBinary:
		return counted, ""
	}
	return no()
}

// named is the type that a name stands for.
func named(t avro.Schema) avro.Schema {
	if ref, is := t.(*avro.RefSchema); is {
		return ref.Schema()
	}
	return t
}

func logicalOf(t avro.Schema) avro.LogicalType {
	if one, is := t.(avro.LogicalTypeSchema); is && one.Logical() != nil {
		return one.Logical().Type()
	}
	return ""
}

// narrow says that a column's numbers may be too large.
func narrow(c *change.Column, bits int, name string) string {
	if Holds(c, bits, false) {
		return ""
	}
	return "numbers that " + name + " does not hold become dead letters"
}

// Holds reports whether an integer of so many bits holds all numbers of a column of integers.
func Holds(c *change.Column, bits int, unsigned bool) bool {
	signed := c.Rule == change.RuleInteger
	if signed == unsigned { // numbers below zero have no place, and a sign takes a bit
		return !signed && c.Bits > 0 && c.Bits < bits
	}
	return bits == 64 || c.Bits > 0 && c.Bits <= bits
}

// TooLong says that a column's numbers may have more digits than a decimal.
func TooLong(c *change.Column, precision, scale int) string {
	digits, fraction, known := c.DecimalSize()
	if c.Rule == change.RuleInteger && c.Bits > 0 {
		digits, fraction, known = (c.Bits-1)*30103/100000+1, 0, true // by the logarithm of 2; one bit is the sign
	}
	if known && fraction <= scale && digits-fraction <= precision-scale {
		return ""
	}
	return fmt.Sprintf("numbers with more digits than decimal(%d,%d) holds become dead letters", precision, scale)
}

// counted writes bytes, or a string.
func counted(dst, text []byte) ([]byte, error) {
	return append(binary.AppendVarint(dst, int64(len(text))), text...), nil
}

func integers(bits int) valueWriter {
	return func(dst, text []byte) ([]byte, error) {
		n, err := strconv.ParseInt(string(text), 10, bits)
		if err != nil {
			return dst, fmt.Errorf("%s is no integer of %d bits", text, bits)
		}
		return binary.AppendVarint(dst, n), nil
	}
}

// moments writes times: in the days or microseconds that of gives, or in milliseconds where the
// logical type says so.
func moments(layout string, of func(time.Time) int64, l avro.LogicalType) valueWriter {
	return func(dst, text []byte) ([]byte, error) {
		t, err := time.Parse(layout, string(text))
		if err != nil {
			return dst, fmt.Errorf("%q has no place in it", text)
		}
		n := of(t)
		if strings.HasSuffix(string(l), "millis") {
			if n%1000 != 0 {
				return dst, fmt.Errorf("%s is finer than a millisecond", text)
			}
			n /= 1000
		}
		return binary.AppendVarint(dst, n), nil
	}
}

// finer says what a type of milliseconds does with a finer time.
func finer(l avro.LogicalType) string {
	if strings.HasSuffix(string(l), "millis") {
		return "times that are finer than a millisecond become dead letters"
	}
	return ""
}

// decimals writes the unscaled value in two's complement (Avro 1.11, Decimal).
func decimals(c *change.Column, t avro.Schema) (valueWriter, string) {
	form := t.(avro.LogicalTypeSchema).Logical().(*avro.DecimalLogicalSchema)
	size := -1
	if fixed, is := t.(*avro.FixedSchema); is {
		size = fixed.Size()
	}
	most := new(big.Int).Exp(big.NewInt(10), big.NewInt(int64(form.Precision())), nil)
	return func(dst, text []byte) ([]byte, error) {
		n, ok := Unscaled(string(text), form.Scale())
		if !ok || n.CmpAbs(most) >= 0 {
			return dst, fmt.Errorf("%s has more digits than decimal(%d,%d) holds", text, form.Precision(), form.Scale())
		}
		value := TwosComplement(n)
		if size < 0 {
			return counted(dst, value)
		}
		if value, ok = SignExtended(value, size); !ok {
			return dst, fmt.Errorf("%s takes more than %d bytes", text, size)
		}
		return append(dst, value...), nil
	}, TooLong(c, form.Precision(), form.Scale())
}

// labels writes a text that is one of an enum's symbols.
func labels(c *change.Column, symbols []string) (valueWriter, string) {
	note := "texts that are none of its symbols become dead letters"
	if c.Rule == change.RuleEnum {
		missing := slices.DeleteFunc(slices.Clone(c.Labels), func(l string) bool { return slices.Contains(symbols, l) })
		if note = ""; len(missing) > 0 {
			note = "its symbols lack " + strings.Join(missing, ", ") + ": rows with those become dead letters"
		}
	}
	return func(dst, text []byte) ([]byte, error) {
		at := slices.Index(symbols, string(text))
		if at < 0 {
			return dst, fmt.Errorf("%q is none of its symbols", text)
		}
		return binary.AppendVarint(dst, int64(at)), nil
	}, note
}

// arrays writes arrays of one dimension, in one block.
func arrays(c *change.Column, items avro.Schema) (valueWriter, string) {
	element := change.AvroElement(*c)
	element.Nullable = true
	one := fittedField{name: "item"}
	if fit := one.accept(&element, items); fit.Misfit {
		return nil, "of its items: " + fit.Says
	}
	return func(dst, text []byte) ([]byte, error) {
		all, err := Items(element.Rule, text)
		if err != nil {
			return dst, err
		}
		if len(all) > 0 {
			dst = binary.AppendVarint(dst, int64(len(all)))
		}
		for _, value := range all {
			if dst, err = one.append(dst, value); err != nil {
				return dst, fmt.Errorf("an item: %w", err)
			}
		}
		return append(dst, 0), nil
	}, ""
}

// Items are those of an array of one dimension, each by the rule of its elements.
func Items(rule change.Rule, text []byte) ([]change.Value, error) {
	var all []json.RawMessage
	if err := json.Unmarshal(text, &all); err != nil {
		return nil, fmt.Errorf("%s is no list", text)
	}
	items := make([]change.Value, len(all))
	for i, item := range all {
		value, ok := elementOf(rule, item)
		if !ok {
			return nil, errors.New("it has more than one dimension")
		}
		items[i] = value
	}
	return items, nil
}
