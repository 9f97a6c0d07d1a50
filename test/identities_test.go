package test

import (
	"encoding/json"
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// row writes what an event carries of a row in a line: large values as L, an absent
// row as -.
func row(values map[string]json.RawMessage) string {
	if values == nil {
		return "-"
	}
	short := make(map[string]any, len(values))
	for name, v := range values {
		short[name] = v
		if len(v) > 1000 {
			short[name] = json.RawMessage("\"L\"")
		}
	}
	line, _ := json.Marshal(short)
	return strings.ReplaceAll(string(line), `"`, "")
}

// TestIdentitiesAndImages makes the same changes under each replica identity with
// each image.
func TestIdentitiesAndImages(t *testing.T) {
	t.Parallel()
	identities := map[string]string{"default": "DEFAULT", "full": "FULL", "index": "USING INDEX index_%[1]s_code_key", "nothing": "NOTHING"}
	var rules []map[string]any
	var tables, statements, changes []string
	for _, identity := range []string{"default", "full", "index", "nothing"} {
		for _, image := range []string{"both", "after", "key"} {
			name := identity + "_" + image
			tables = append(tables, name)
			rules = append(rules, map[string]any{"match": name, "image": image})
			statements = append(statements, "CREATE TABLE "+name+" (id integer PRIMARY KEY, code text NOT NULL UNIQUE, note text, essay text)",
				"ALTER TABLE "+name+" ALTER COLUMN essay SET STORAGE EXTERNAL",
				"ALTER TABLE "+name+" REPLICA IDENTITY "+strings.ReplaceAll(identities[identity], "%[1]s", image))
			changes = append(changes, "INSERT INTO "+name+" VALUES (1, 'a', NULL, repeat('0123456789', 400))", "UPDATE "+name+" SET note = 'n'",
				"UPDATE "+name+" SET id = 2", "UPDATE "+name+" SET code = 'b'", "DELETE FROM "+name)
		}
	}
	i, name := captured(t, "", rules, nil, statements...)
	db := connect(t, sourceServer(t), name)
	run(t, db, changes...) // none fails for our sake
	i.reached("circulation", db)
	events := i.journal("circulation")
	f := proveJournal(t, events)
	var got []string
	for _, table := range tables {
		got = append(got, "", table)
		for _, e := range ofTable(events, "public."+table, "insert", "update", "delete") {
			d := e.Data
			line := fmt.Sprintf("%s %s before %s after %s", d.Operation, row(d.Key), row(d.Before), row(d.After))
			for what, names := range map[string][]string{" changed ": d.Changed, " omitted ": d.Omitted} {
				if len(names) > 0 {
					line += what + strings.Join(names, " ")
				}
			}
			if d.Rekeyed != nil {
				line += " rekeyed " + row(d.Rekeyed)
			}
			got = append(got, line)
		}
		if !strings.HasPrefix(table, "nothing") && !strings.HasSuffix(table, "key") {
			f.equals(t, db, table)
		}
	}
	require.Equal(t, wantIdentities, strings.Join(got, "\n"))
}

// A value that the log does not carry is omitted; under a full identity it does. A
// changed identity is a tied pair. Without one only inserts may be published.
const wantIdentities = `
default_both
insert {id:1} before - after {code:a,essay:L,id:1,note:null}
update {id:1} before - after {code:a,id:1,note:n} omitted essay
delete {id:1} before {id:1} after - omitted code note essay rekeyed {id:2}
insert {id:2} before - after {code:a,id:2,note:n} omitted essay rekeyed {id:1}
update {id:2} before - after {code:b,id:2,note:n} omitted essay
delete {id:2} before {id:2} after - omitted code note essay

default_after
insert {id:1} before - after {code:a,essay:L,id:1,note:null}
update {id:1} before - after {code:a,id:1,note:n} omitted essay
delete {id:1} before {id:1} after - omitted code note essay rekeyed {id:2}
insert {id:2} before - after {code:a,id:2,note:n} omitted essay rekeyed {id:1}
update {id:2} before - after {code:b,id:2,note:n} omitted essay
delete {id:2} before {id:2} after - omitted code note essay

default_key
insert {id:1} before - after {id:1}
update {id:1} before - after {id:1}
delete {id:1} before {id:1} after - rekeyed {id:2}
insert {id:2} before - after {id:2} rekeyed {id:1}
update {id:2} before - after {id:2}
delete {id:2} before {id:2} after -

full_both
insert {id:1} before - after {code:a,essay:L,id:1,note:null}
update {id:1} before {code:a,essay:L,id:1,note:null} after {code:a,essay:L,id:1,note:n} changed note
delete {id:1} before {code:a,essay:L,id:1,note:n} after - rekeyed {id:2}
insert {id:2} before - after {code:a,essay:L,id:2,note:n} rekeyed {id:1}
update {id:2} before {code:a,essay:L,id:2,note:n} after {code:b,essay:L,id:2,note:n} changed code
delete {id:2} before {code:b,essay:L,id:2,note:n} after -

full_after
insert {id:1} before - after {code:a,essay:L,id:1,note:null}
update {id:1} before - after {code:a,essay:L,id:1,note:n}
delete {id:1} before {id:1} after - omitted code note essay rekeyed {id:2}
insert {id:2} before - after {code:a,essay:L,id:2,note:n} rekeyed {id:1}
update {id:2} before - after {code:b,essay:L,id:2,note:n}
delete {id:2} before {id:2} after - omitted code note essay

full_key
insert {id:1} before - after {id:1}
update {id:1} before - after {id:1}
delete {id:1} before {id:1} after - rekeyed {id:2}
insert {id:2} before - after {id:2} rekeyed {id:1}
update {id:2} before - after {id:2}
delete {id:2} before {id:2} after -

index_both
insert {code:a} before - after {code:a,essay:L,id:1,note:null}
update {code:a} before - after {code:a,id:1,note:n} omitted essay
update {code:a} before - after {code:a,id:2,note:n} omitted essay
delete {code:a} before {code:a} after - omitted id note essay rekeyed {code:b}
insert {code:b} before - after {code:b,id:2,note:n} omitted essay rekeyed {code:a}
delete {code:b} before {code:b} after - omitted id note essay

index_after
insert {code:a} before - after {code:a,essay:L,id:1,note:null}
update {code:a} before - after {code:a,id:1,note:n} omitted essay
update {code:a} before - after {code:a,id:2,note:n} omitted essay
delete {code:a} before {code:a} after - omitted id note essay rekeyed {code:b}
insert {code:b} before - after {code:b,id:2,note:n} omitted essay rekeyed {code:a}
delete {code:b} before {code:b} after - omitted id note essay

index_key
insert {code:a} before - after {code:a}
update {code:a} before - after {code:a}
update {code:a} before - after {code:a}
delete {code:a} before {code:a} after - rekeyed {code:b}
insert {code:b} before - after {code:b} rekeyed {code:a}
delete {code:b} before {code:b} after -

nothing_both
insert {id:1} before - after {code:a,essay:L,id:1,note:null}

nothing_after
insert {id:1} before - after {code:a,essay:L,id:1,note:null}

nothing_key
insert {id:1} before - after {id:1}`
