package compared

import (
	"context"
	"fmt"
	"strconv"
	"strings"

	"rillmark/internal/postgres/catalogue"
	"rillmark/internal/postgres/session"
	"rillmark/internal/verify"
)

var _ verify.Summer = (*Rows)(nil)

// firstWithHashes is the server's version that can hash a whole row.
const firstWithHashes = 14

// SumForm implements [verify.Summer]. Types whose hashes tell all values apart are hashed as they
// are. Others are hashed as text: 1.0 and 1.00 have the same hash, and so have 0 and -0.
func (r *Rows) SumForm(columns []string) string {
	version, _, _ := strings.Cut(r.reader.Conn.PgConn().ParameterStatus("server_version"), ".")
	if number, err := strconv.Atoi(version); err != nil || number < firstWithHashes || r.layout.Filter != nil {
		return ""
	}
	form := "postgresql"
	for _, name := range columns {
		_, as := r.summed(name)
		if as == "" {
			return ""
		}
		form += " " + as
	}
	return form
}

// summed is a column as it is hashed, and what that is; empty where its values are not the
// database's own.
func (r *Rows) summed(name string) (expression, as string) {
	for i := range r.layout.Schema.Columns {
		if r.layout.Schema.Columns[i].Name != name {
			continue
		}
		if r.layout.Schema.Columns[i].Treatment != "" {
			return "", ""
		}
		raw := &r.layout.Raw[r.layout.From[i]]
		switch quoted := session.Quoted(raw.Name); raw.OID {
		case catalogue.OIDInt2, catalogue.OIDInt4, catalogue.OIDInt8:
			return quoted, "integer"
		case catalogue.OIDText, catalogue.OIDVarchar:
			return quoted + ` COLLATE "C"`, "text"
		case catalogue.OIDBool, catalogue.OIDBytea, catalogue.OIDUUID, catalogue.OIDDate, catalogue.OIDTimestamp, catalogue.OIDTimestampTZ:
			return quoted, fmt.Sprint(raw.OID)
		case catalogue.OIDJSON:
			return "", "" // the journal has it without its white space
		default:
			return quoted + `::text COLLATE "C"`, "text of " + raw.Type
		}
	}
	return "", ""
}

// Sum implements [verify.Summer].
func (r *Rows) Sum(ctx context.Context, columns, after, upTo []string) (rows int64, sum string, err error) {
	var values, key []string
	for _, name := range columns {
		value, _ := r.summed(name)
		values = append(values, value)
	}
	for _, at := range r.layout.Schema.Key() {
		key = append(key, session.Quoted(r.layout.Raw[r.layout.From[at]].Name))
	}
	conditions := []string{"true"}
	if r.where != "" {
		conditions = append(conditions, "("+r.where+")")
	}
	bound := func(sign string, texts []string) {
		if texts == nil {
			return
		}
		literals := make([]string, len(texts))
		for i, text := range texts {
			literals[i] = session.Literal(text)
		}
		conditions = append(conditions, "("+strings.Join(key, ", ")+") "+sign+" ("+strings.Join(literals, ", ")+")")
	}
	bound(">", after)
	bound("<=", upTo)
	err = r.reader.Conn.QueryRow(ctx, "SELECT count(*), coalesce(sum(hash_record_extended(ROW("+strings.Join(values, ", ")+"), 0)), 0)::text FROM "+r.reader.Target.From()+" WHERE "+strings.Join(conditions, " AND ")).Scan(&rows, &sum)
	return rows, sum, err
}
