package sql

import (
	"testing"

	"github.com/stretchr/testify/require"
)

// TestRoomForValues: whether each value of the wanted type has room in a column of another.
func TestRoomForValues(t *testing.T) {
	const postgresql, mariadb = false, true
	for _, c := range []struct {
		column, wanted string
		engine         bool
		want           fit
	}{
		{"bigint", "integer", postgresql, fits},
		{"smallint", "integer", postgresql, narrower},
		{"bigint(20)", "int", mariadb, fits},
		{"int(11)", "int(10) unsigned", mariadb, narrower},
		{"bigint(20)", "int unsigned", mariadb, fits},
		{"bigint(20) unsigned", "int", mariadb, narrower},
		{"numeric", "numeric(20,0)", postgresql, fits},
		{"numeric(20,0)", "bigint", postgresql, fits},
		{"numeric(6,1)", "numeric(8,2)", postgresql, narrower},
		{"decimal(10,2)", "decimal(8,2)", mariadb, fits},
		{"decimal(10,1)", "decimal(8,2)", mariadb, narrower},
		{"numeric(8,2)", "numeric", postgresql, narrower},
		{"numeric", "double precision", postgresql, narrower},
		{"double precision", "real", postgresql, fits},
		{"double precision", "integer", postgresql, fits},
		{"double precision", "bigint", postgresql, narrower},
		{"double precision", "numeric(8,2)", postgresql, narrower},
		{"text", "character varying(40)", postgresql, fits},
		{"character varying(40)", "text", postgresql, narrower},
		{"character varying(40)", "character varying(30)", postgresql, fits},
		{"character varying", "text", postgresql, fits},
		{"text", "longtext", mariadb, narrower},
		{"longtext", "varchar(40)", mariadb, fits},
		{"varchar(10)", "varchar(40)", mariadb, narrower},
		{"blob", "longblob", mariadb, narrower},
		{"bytea", "bytea", postgresql, fits},
		{"text", "date", postgresql, other},
		{"date", "text", postgresql, other},
		{"datetime", "datetime(6)", mariadb, narrower},
		{"timestamp(3) with time zone", "timestamp with time zone", postgresql, narrower},
		{"timestamp without time zone", "timestamp with time zone", postgresql, other},
		{"json", "jsonb", postgresql, other},
		{`shelf."Mood"`, "text", postgresql, other},
		{"integer[]", "bigint[]", postgresql, other},
		{"enum('a','b')", "enum('a','b','c')", mariadb, other},
	} {
		require.Equal(t, c.want, fitOf(c.column, c.wanted, c.engine), "%s for %s", c.column, c.wanted)
	}
}
