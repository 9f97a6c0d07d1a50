package postgres

import (
	"context"
	"encoding/binary"
	"encoding/hex"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"rillmark/internal/change"
	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/pgoutput"
)

// Rows come as text, as every type has one. The server cannot write the text of a
// value of some 500 MiB, and would stop at it for good; such a transaction is read
// in binary form, in which what is too large can be passed over. The other values
// of its rows become text here: the plain ones by ourselves, the rest by asking the
// server, whose own text it then is.

// inText makes a tuple's binary values text.
func (r *run) inText(ctx context.Context, l *catalogue.Layout, tuple []pgoutput.TupleColumn) error {
	if len(tuple) != len(l.Raw) {
		return fmt.Errorf("a row of %d columns where %d were announced", len(tuple), len(l.Raw))
	}
	var asked []int
	for i := range tuple {
		c := &tuple[i]
		if c.Kind != pgoutput.KindBinary {
			continue
		}
		text, known, err := plainText(&l.Raw[i], c.Data)
		if err != nil {
			return fmt.Errorf("column %s: %w", l.Raw[i].Name, err)
		}
		if known {
			c.Kind, c.Data = pgoutput.KindText, text
			continue
		}
		asked = append(asked, i)
	}
	if len(asked) == 0 {
		return nil
	}
	values := make([][]byte, len(asked))
	oids := make([]uint32, len(asked))
	formats := make([]int16, len(asked))
	wanted := make([]string, len(asked))
	for n, i := range asked {
		values[n], oids[n], formats[n] = tuple[i].Data, l.Raw[i].OID, 1
		wanted[n] = fmt.Sprintf("format('%%s', $%d)", n+1) // by the type's own output function
	}
	answer := r.control.PgConn().ExecParams(ctx, "SELECT "+strings.Join(wanted, ", "), values, oids, formats, nil).Read()
	if answer.Err != nil {
		return fmt.Errorf("turning binary values into text: %w", answer.Err)
	}
	for n, i := range asked {
		tuple[i].Kind, tuple[i].Data = pgoutput.KindText, slices.Clone(answer.Rows[0][n])
	}
	return nil
}

// plainText is the text of a binary value whose form is plain (the types' send
// functions); known is false for any other.
func plainText(c *catalogue.RawColumn, data []byte) (text []byte, known bool, err error) {
	want := func(n int) bool {
		if len(data) != n {
			err = fmt.Errorf("%d bytes instead of %d", len(data), n)
		}
		return err == nil
	}
	switch c.OID {
	case catalogue.OIDBool:
		if want(1) {
			return []byte{"ft"[data[0]&1]}, true, nil
		}
		return nil, true, err
	case catalogue.OIDInt2:
		if want(2) {
			return strconv.AppendInt(nil, int64(int16(binary.BigEndian.Uint16(data))), 10), true, nil
		}
		return nil, true, err
	case catalogue.OIDInt4:
		if want(4) {
			return strconv.AppendInt(nil, int64(int32(binary.BigEndian.Uint32(data))), 10), true, nil
		}
		return nil, true, err
	case catalogue.OIDInt8:
		if want(8) {
			return strconv.AppendInt(nil, int64(binary.BigEndian.Uint64(data)), 10), true, nil
		}
		return nil, true, err
	case catalogue.OIDBytea:
		return hex.AppendEncode([]byte(`\x`), data), true, nil
	case catalogue.OIDText, catalogue.OIDVarchar, catalogue.OIDBpchar, catalogue.OIDName, catalogue.OIDJSON:
		return data, true, nil
	case catalogue.OIDJSONB:
		if len(data) == 0 || data[0] != 1 {
			return nil, true, fmt.Errorf("a jsonb value of an unknown version")
		}
		return data[1:], true, nil
	}
	return data, c.Rule == change.RuleEnum, nil
}
