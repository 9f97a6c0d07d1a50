package parquetfile

import (
	"bytes"
	"errors"
	"fmt"
	"io"
	"testing"
	"time"

	"github.com/parquet-go/parquet-go"
	"github.com/parquet-go/parquet-go/format"
	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/encode"
)

// model is what a file of a schema says, read from the file.
func model(t *testing.T, fields ...parquet.Field) *Model { return modelWith(t, nil, fields) }

// modelWith is the same of a file that has rows.
func modelWith(t *testing.T, rows []parquet.Row, fields []parquet.Field) *Model {
	t.Helper()
	var file bytes.Buffer
	for i := range fields {
		fields[i] = column{parquet.FieldID(parquet.Node(fields[i]), 7+i), fields[i].Name()}
	}
	w := parquet.NewGenericWriter[any](&file, parquet.NewSchema("lendings", columns(fields)), parquet.Compression(&parquet.Snappy))
	if len(rows) > 0 {
		_, err := w.WriteRows(rows)
		require.NoError(t, err)
	}
	require.NoError(t, w.Close())
	m, err := ReadModel(bytes.NewReader(file.Bytes()), int64(file.Len()))
	require.NoError(t, err)
	return m
}

func version(of ...change.Column) *change.Schema {
	return change.NewSchema("postgresql", "public.loans", of, nil, false)
}

func of(rule change.Rule, bits int, typed string) change.Column {
	return change.Column{Name: "v", Type: typed, Rule: rule, Bits: bits}
}

// rowsOf is what a reader finds in a file of rows that were formed.
func rowsOf(t *testing.T, f *Fitted, rows ...[]change.Value) []parquet.Row {
	t.Helper()
	var file bytes.Buffer
	w := NewFitted(&file, f, "")
	for _, values := range rows {
		made, err := f.Form(values, false)
		require.NoError(t, err)
		require.NoError(t, w.AddRow(made.(*Row), 1))
	}
	require.NoError(t, w.Close())
	opened, err := parquet.OpenFile(bytes.NewReader(file.Bytes()), int64(file.Len()))
	require.NoError(t, err)
	require.Equal(t, f.model.String(), opened.Schema().String())
	for _, chunk := range opened.Metadata().RowGroups[0].Columns {
		require.Equal(t, format.Uncompressed, chunk.MetaData.Codec, "packed as we were asked to")
	}
	var all []parquet.Row
	for _, group := range opened.RowGroups() {
		reader := group.Rows()
		found := make([]parquet.Row, 10)
		n, err := reader.ReadRows(found)
		require.True(t, err == nil || errors.Is(err, io.EOF), err)
		for _, row := range found[:n] {
			all = append(all, row.Clone())
		}
		require.NoError(t, reader.Close())
	}
	return all
}

// TestFittedValues: a value stands in a model's type as a reader understands it, or is refused with
// a sentence; a type that no value fits is refused before.
func TestFittedValues(t *testing.T) {
	money := func(scale, precision int, in parquet.Type) parquet.Node { return parquet.Decimal(scale, precision, in) }
	texts := change.Column{Name: "v", Type: "text[]", Rule: change.RuleArray, Element: change.RuleText}
	numbers := change.Column{Name: "v", Type: "integer[]", Rule: change.RuleArray, Element: change.RuleInteger, Bits: 32}
	for _, one := range []struct {
		column change.Column
		node   parquet.Node
		text   string
		gives  string // as the row is printed: value, repetition and definition level
		note   string // of the fit
		fails  string
	}{
		{of(change.RuleInteger, 64, "bigint"), parquet.Int(64), "9007199254740993", "9007199254740993", "", ""},
		{of(change.RuleInteger, 64, "bigint"), parquet.Int(32), "-7", "-7", "numbers that do not fit into 32 bits", ""},
		{of(change.RuleInteger, 64, "bigint"), parquet.Leaf(parquet.Int32Type), "2147483648", "", "numbers that do not fit into 32 bits", "no integer of 32 bits"},
		{of(change.RuleInteger, 16, "smallint"), parquet.Int(8), "128", "", "numbers that do not fit into 8 bits", "no integer of 8 bits"},
		{of(change.RuleInteger, 32, "integer"), parquet.Uint(32), "-1", "", "numbers that do not fit", "no integer of 32 bits"},
		{of(change.RuleUnsigned, 64, "bigint unsigned"), parquet.Uint(64), "18446744073709551615", "-1", "", ""}, // the same bits
		{of(change.RuleInteger, 32, "integer"), parquet.Leaf(parquet.DoubleType), "7", "7", "", ""},
		{of(change.RuleInteger, 64, "bigint"), parquet.Leaf(parquet.DoubleType), "", "", "", "bigint is not written as double"},
		{of(change.RuleFloat, 32, "real"), parquet.Leaf(parquet.FloatType), "0.25", "0.25", "", ""},
		{of(change.RuleBoolean, 0, "boolean"), parquet.Leaf(parquet.BooleanType), "true", "true", "", ""},
		{of(change.RuleInteger, 64, "bigint"), parquet.String(), "42", "42", "", ""},
		{of(change.RuleText, 0, "text"), parquet.Leaf(parquet.ByteArrayType), "é", "é", "", ""},
		{of(change.RuleText, 0, "text"), parquet.Int(32), "", "", "", "text is not written as int32 (INT(32,true)): an expression"},
		{of(change.RuleBinary, 0, "bytea"), parquet.String(), "", "", "", "bytea is not written as byte_array"},
		{of(change.RuleBinary, 0, "bytea"), parquet.Leaf(parquet.FixedLenByteArrayType(2)), "ab", "ab", "values of other than 2 bytes", ""},
		{of(change.RuleBinary, 0, "bytea"), parquet.Leaf(parquet.FixedLenByteArrayType(2)), "abc", "", "values of other than 2 bytes", "it takes 2 bytes, and the value has 3"},
		{of(change.RuleUUID, 0, "uuid"), parquet.UUID(), "41424344-4546-4748-494a-4b4c4d4e4f50", "ABCDEFGHIJKLMNOP", "", ""},
		{of(change.RuleJSON, 0, "jsonb"), parquet.JSON(), `{"a":1}`, `{"a":1}`, "", ""},
		{of(change.RuleDate, 0, "date"), parquet.Date(), "1970-01-03", "2", "", ""},
		{of(change.RuleDate, 0, "date"), parquet.Date(), "infinity", "", "", `"infinity" has no place in it`},
		{of(change.RuleTime, 0, "time"), parquet.Time(parquet.Millisecond), "00:00:01", "1000", "finer than a millisecond", ""},
		{of(change.RuleTime, 0, "time"), parquet.Time(parquet.Nanosecond), "00:00:01.000001", "1000001000", "", ""},
		{of(change.RuleTimestampTZ, 0, "timestamptz"), parquet.Timestamp(parquet.Millisecond), "1970-01-01T00:00:01.5Z", "1500", "finer than a millisecond", ""},
		{of(change.RuleTimestampTZ, 0, "timestamptz"), parquet.Timestamp(parquet.Millisecond), "1970-01-01T00:00:00.000001Z", "", "finer than a millisecond", "finer than a millisecond"},
		{of(change.RuleTimestampTZ, 0, "timestamptz"), parquet.Timestamp(parquet.Nanosecond), "1969-12-31T23:59:59.999999Z", "-1000", "", ""},
		{of(change.RuleTimestampTZ, 0, "timestamptz"), parquet.Timestamp(parquet.Nanosecond), "9999-01-01T00:00:00Z", "", "", "beyond what 64 bits of nanoseconds hold"},
		{of(change.RuleTimestampTZ, 0, "timestamptz"), parquet.TimestampAdjusted(parquet.Microsecond, false), "", "", "", "timestamptz is not written as int64"},
		{of(change.RuleTimestamp, 0, "timestamp"), parquet.TimestampAdjusted(parquet.Microsecond, false), "1970-01-01T00:00:01", "1000000", "", ""},
		{of(change.RuleDecimal, 0, "numeric(6,2)"), money(2, 8, parquet.Int32Type), "-1.25", "-125", "", ""},
		{of(change.RuleDecimal, 0, "numeric(6,2)"), money(1, 12, parquet.Int64Type), "1.25", "", "numbers with more digits than decimal(12,1) holds", "more digits"},
		{of(change.RuleDecimal, 0, "numeric"), money(2, 38, parquet.FixedLenByteArrayType(2)), "-1.25", "\xff\x83", "numbers with more digits", ""},
		{of(change.RuleDecimal, 0, "numeric"), money(2, 38, parquet.FixedLenByteArrayType(1)), "-1.29", "", "numbers with more digits", "-1.29 takes more than 1 bytes"},
		{of(change.RuleInteger, 32, "integer"), money(2, 12, parquet.ByteArrayType), "1", "\x64", "", ""},
		{of(change.RuleText, 0, "text"), parquet.Group{"a": parquet.String()}, "", "", "", "not written as a group of columns"},
		{texts, parquet.List(parquet.Optional(parquet.String())), `["a",null]`, "a null", "", ""},
		{texts, parquet.List(parquet.String()), `["a",null]`, "", "", "an item: it takes no null"},
		{texts, parquet.List(parquet.Int(32)), "", "", "", "of its items: text is not written as int32"},
		{texts, parquet.Repeated(parquet.String()), "", "", "", "not written as a group of columns"},
		{texts, parquet.JSON(), `["a"]`, `["a"]`, "", ""},
		{numbers, parquet.List(parquet.Int(64)), `[1,-2]`, "1 -2", "", ""},
		{numbers, parquet.List(parquet.Int(64)), `[]`, "null", "", ""},
		{numbers, parquet.List(parquet.Int(64)), `[[1]]`, "", "", "more than one dimension"},
	} {
		name := fmt.Sprintf("%s as %s: %s", one.column.Type, one.node, one.text)
		f, fits := Fit(version(one.column), model(t, column{one.node, "v"}))
		if one.text == "" {
			require.Nil(t, f, name)
			require.Contains(t, encode.Misfits(fits), one.fails, name)
			continue
		}
		require.NotNil(t, f, "%s: %v", name, fits)
		if one.note != "" {
			require.Contains(t, fits[0].Says, one.note, name)
		} else {
			require.Empty(t, fits, name)
		}
		row := []change.Value{change.Of(one.text)}
		if one.fails != "" {
			_, err := f.Form(row, false)
			require.ErrorContains(t, err, one.fails, name)
			continue
		}
		got := ""
		for i, v := range rowsOf(t, f, row)[0] {
			if i > 0 {
				got += " "
			}
			if v.IsNull() {
				got += "null"
			} else {
				got += v.String()
			}
		}
		require.Equal(t, one.gives, got, name)
	}
}

// TestOldTimestamps: the Julian day, and the nanoseconds in it.
func TestOldTimestamps(t *testing.T) {
	for text, day := range map[string]uint32{"1970-01-01T00:00:00.000001Z": 2440588, "1969-12-31T23:59:59.999999Z": 2440587, "2026-11-27T09:30:00Z": 2461372} {
		v, err := julian([]byte(text))
		require.NoError(t, err)
		at, err := time.Parse(time.RFC3339Nano, text)
		require.NoError(t, err)
		parts := v.Int96()
		require.Equal(t, day, parts[2], text)
		require.EqualValues(t, at.Sub(at.Truncate(24*time.Hour)), uint64(parts[1])<<32|uint64(parts[0]), text)
	}
}

// TestFit: columns go by name. One that is missing is null, or refused where that cannot be, and the
// column that may be meant is named. A row that lacks a value is refused; a value that its type does
// not hold stands in the column for that.
func TestFit(t *testing.T) {
	loans := version(of(change.RuleInteger, 64, "bigint"), change.Column{Name: "branch", Type: "integer", Rule: change.RuleInteger, Bits: 32, Nullable: true},
		change.Column{Name: "due", Type: "date", Rule: change.RuleDate, Nullable: true})
	_, fits := Fit(loans, model(t, column{parquet.Int(64), "v"}, column{parquet.Int(32), "branch_id"}))
	require.Equal(t, `branch_id: no column has the name, and the model takes no null there; "branch" may be it: give it the name by a form of rows`, encode.Misfits(fits))

	nested := parquet.Optional(parquet.Group{"a": parquet.String(), "b": parquet.Repeated(parquet.Int(32))})
	f, fits := Fit(loans, model(t, column{parquet.Optional(parquet.Date()), "due"}, column{nested, "more"}, column{parquet.Int(32), "branch"}, column{parquet.Optional(parquet.String()), encode.Inexact}))
	require.NotNil(t, f, "%v", fits)
	require.Equal(t, []encode.FieldFit{{Field: "more", Says: "no column has the name: it is null"}, {Field: "branch", Says: "rows in which it is null become dead letters"},
		{Field: "v", Says: "the model has no such column: not sent"}}, fits)
	require.True(t, f.Takes("branch"))
	require.False(t, f.Takes("more"))
	rows := rowsOf(t, f, []change.Value{change.Of("1"), change.Of("3"), change.Of("1970-01-02")}, []change.Value{change.Of("2"), change.Of("4"), change.Of("infinity")})
	require.Equal(t, "[1 <null> <null> 3 <null>]", fmt.Sprint(rows[0]))
	require.Equal(t, `[<null> <null> <null> 4 {"due":"infinity"}]`, fmt.Sprint(rows[1]))
	due := []parquet.Field{column{parquet.Encoded(parquet.Optional(parquet.Date()), &parquet.DeltaBinaryPacked), "due"}}
	f, _ = Fit(loans, modelWith(t, []parquet.Row{{parquet.Int32Value(1).Level(0, 1, 0)}}, due))
	require.Contains(t, f.model.String(), "optional int32 due (DATE) = 7", "a field's number stays")
	require.Equal(t, "[[1]]", fmt.Sprint(rowsOf(t, f, []change.Value{change.Of("1"), change.Of("3"), change.Of("1970-01-02")})), "whatever the file's own rows are")
	f, _ = Fit(loans, model(t, column{parquet.Optional(parquet.Date()), "due"}, column{parquet.Int(32), "branch"}))
	_, err := f.Form([]change.Value{change.Of("1"), change.NullValue(), change.NullValue()}, false)
	require.ErrorContains(t, err, "column branch of the model: it takes no null")
	_, err = f.Form([]change.Value{change.Of("1"), change.Of("3"), {}}, false)
	require.ErrorIs(t, err, encode.ErrNotInLog)
	_, err = f.Form([]change.Value{change.Of("1"), change.Of("3"), {}}, true)
	require.NoError(t, err, "of a row that is gone the log may have the key alone")

	for _, text := range []string{"", "PAR1", "no Parquet at all, but as long as one may be PAR1"} {
		_, err = ReadModel(bytes.NewReader([]byte(text)), int64(len(text)))
		require.ErrorContains(t, err, "cannot be read as a Parquet file")
	}
}
