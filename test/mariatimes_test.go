package test

import (
	"encoding/json"
	"fmt"
	"maps"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestMariaDBFormerTimes: tables made under mysql56_temporal_format=OFF, or by an older server,
// keep times in another form, of which the log does not say how many decimals there are.
func TestMariaDBFormerTimes(t *testing.T) {
	t.Parallel()
	m := mariaServer(t, nil)
	var columns []string
	values := map[string][]string{
		"time":      {"'-838:59:59.999999'", "'-00:00:00.000001'", "'838:59:59.999999'", "'-12:34:56.789012'", "'00:00:00'", "'-01:00:00'", "NULL"},
		"datetime":  {"'0000-00-00 00:00:00'", "'1000-01-01 00:00:00.100001'", "'9999-12-31 23:59:59.999999'", "'2024-02-29 07:08:09.123456'", "'2024-11-30 10:00:00.5'", "'2024-12-31 00:00:00'", "NULL"},
		"timestamp": {"'0000-00-00 00:00:00'", "'1970-01-01 00:00:01.000001'", "'2038-01-19 03:14:07.999999'", "'2024-10-27 01:30:00.123456'", "'2001-09-09 01:46:40.5'", "'2024-02-29 00:00:00'", "NULL"},
	}
	rows := make([][]string, len(values["time"]))
	for _, kind := range []string{"time", "datetime", "timestamp"} {
		for decimals := range 7 {
			columns = append(columns, fmt.Sprintf("%s_%d %s(%d) NULL DEFAULT NULL", kind, decimals, kind, decimals))
			for i, v := range values[kind] {
				if kind == "timestamp" && decimals == 0 || v == "NULL" {
					v = strings.Split(v, ".")[0] + strings.Repeat("'", strings.Count(v, ".")) // a second more would be too late
				}
				rows[i] = append(rows[i], v)
			}
		}
	}
	fill := func(first int) string {
		var all []string
		for i, row := range rows {
			all = append(all, fmt.Sprintf("(%d, %s)", first+i, strings.Join(row, ", ")))
		}
		return "INSERT INTO former VALUES " + strings.Join(all, ", ")
	}
	const lax = "SET STATEMENT time_zone = '+00:00', sql_mode = 'ALLOW_INVALID_DATES' FOR " // decimals are cut off
	i, name, db := mariaFollowed(t, m, "", "SET GLOBAL mysql56_temporal_format = OFF",
		"CREATE TABLE former (id int PRIMARY KEY, "+strings.Join(columns, ", ")+")", lax+fill(0))
	mariaRun(t, db, lax+fill(100))
	i.mariaSettled("catalogue", db)
	f := newFold()
	images := map[string][]map[string]json.RawMessage{}
	for _, e := range ofTable(i.journal("catalogue"), name+".former") {
		f.apply(e)
		if e.Data.After != nil {
			image := maps.Clone(e.Data.After)
			delete(image, "id")
			images[e.Data.Operation] = append(images[e.Data.Operation], image)
		}
	}
	require.Len(t, images["existing"], len(rows))
	require.Equal(t, images["existing"], images["insert"], "the log and a SELECT say the same")
	f.mariaEquals(t, db, name, "former")
}
