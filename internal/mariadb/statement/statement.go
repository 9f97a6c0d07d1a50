// Package statement says what a statement in the log does to tables. It knows what it
// needs of the server's language and no more: what it is not sure of it says so, and the
// caller takes the worst for given.
package statement

import (
	"slices"
	"strings"
)

// Kind is what a statement does.
type Kind uint8

// The kinds.
const (
	// Nothing that concerns tables or their rows.
	Nothing Kind = iota
	Create
	// CreateFrom makes a table with the rows of a query, which follow in the same group.
	Alter
	Drop
	Rename
	Truncate
	DropDatabase
	// Rewrite changes rows of tables without events: partitions that are dropped, truncated
	// or exchanged, rows that have no place in an altered table.
	Rewrite
	// Repair mends tables' files, and may take rows that cannot be read, where the engine has
	// no transactions.
	Repair
	// Rows is a change of rows that is logged as its statement.
	Rows
	// Begin, Commit, Rollback, Savepoint, RollbackTo and the XA kinds are of transactions.
	Commit
	Rollback
	Savepoint
	RollbackTo
	XACommit
	XARollback
	// Unknown may do anything to any table.
	Unknown
)

// Table is a table's name in parts.
type Table struct{ Database, Name string }

// Effect is what a statement does, in the order in which it does it.
type Effect struct {
	Kind Kind
	// Tables are those it is done to; of Rename, From and To in pairs.
	Tables []Table
	To     []Table
	// Columns are those that an ALTER renames: old and new. Dropped are those that it drops;
	// it may add others under their names. The case of an old name may be another than the
	// column's.
	Columns [][2]string
	Dropped []string
	// Defined are the columns that a CREATE or an ALTER defines, as far as that could be read.
	Defined []Column
	// DefinesAll says that the table has no columns but those Defined.
	DefinesAll bool
	// Recoded is set of an ALTER that gives columns another character set than utf8mb4, which
	// has all characters, and Generated of one that says anew how a column follows from others.
	Recoded, Generated bool
	// Lossy is set of an ALTER whose session let it cut values that do not fit.
	Lossy bool
	// Database of DropDatabase, Savepoint of Savepoint and RollbackTo.
	Database, Savepoint string
	// Replaces is set of a CREATE OR REPLACE, IfNotExists of what may have done nothing.
	Replaces, IfNotExists bool
}

// Column is a column as a statement defines it.
type Column struct {
	Name string
	// Type is the first word of its type, in lower case.
	Type string
	// Added says that an ALTER adds it: rows that are there get its default.
	Added bool
	// Default is its default, where that is a constant and HasDefault says so: a text, or a number
	// as it is written. NotNull says that it takes no NULL.
	Default    string
	HasDefault bool
	NotNull    bool
	// Computed says that its default or its value follows from an expression.
	Computed bool
}

// Mode is how a statement is to be read.
type Mode struct {
	// ANSIQuotes and NoBackslashes are those of the session's SQL mode.
	ANSIQuotes, NoBackslashes bool
	// LowerCase says that the server keeps the names of databases and tables in lower case
	// (lower_case_table_names is 1), however a statement writes them.
	LowerCase bool
	// Lossy says that the session is not strict: values are cut rather than refused.
	Lossy bool
}

// Read says what a statement does. database is the session's.
func Read(text, database string, mode Mode) []Effect {
	all, ok := tokens(text, mode.ANSIQuotes, mode.NoBackslashes)
	if !ok {
		return []Effect{{Kind: Unknown}}
	}
	r := &reader{all: all, text: text, lower: mode.LowerCase, lossy: mode.Lossy}
	r.database = r.name(database)
	return r.statement()
}

type reader struct {
	all      []token
	text     string
	database string
	lower    bool
	lossy    bool
}

// name is a database's or a table's as the server keeps it.
func (r *reader) name(written string) string {
	if r.lower {
		return strings.ToLower(written)
	}
	return written
}

func (r *reader) peek() token {
	if len(r.all) == 0 {
		return token{kind: ending, offset: len(r.text)}
	}
	return r.all[0]
}

func (r *reader) next() token {
	t := r.peek()
	if len(r.all) > 0 {
		r.all = r.all[1:]
	}
	return t
}

// skip takes keywords that may stand there, in this order, and reports whether all did.
func (r *reader) skip(keywords ...string) bool {
	if len(r.all) < len(keywords) {
		return false
	}
	for i, k := range keywords {
		if !r.all[i].is(k) {
			return false
		}
	}
	r.all = r.all[len(keywords):]
	return true
}

// skipOne takes one of some keywords, and reports whether it was there.
func (r *reader) skipOne(keywords ...string) bool {
	return slices.ContainsFunc(keywords, func(k string) bool { return r.skip(k) })
}

// skipAny takes keywords as long as they are some of these.
func (r *reader) skipAny(keywords ...string) {
	for {
		found := false
		for _, k := range keywords {
			found = found || r.skip(k)
		}
		if !found {
			return
		}
	}
}

func (r *reader) sign(s string) bool {
	if t := r.peek(); t.kind == sign && t.text == s {
		r.next()
		return true
	}
	return false
}

// table is a name of one or two parts.
func (r *reader) table() (Table, bool) {
	t := r.next()
	if !t.isName() {
		return Table{}, false
	}
	if !r.sign(".") {
		return Table{r.database, r.name(t.text)}, true
	}
	second := r.next()
	return Table{r.name(t.text), r.name(second.text)}, second.isName() || second.kind == value
}

func unknown() []Effect { return []Effect{{Kind: Unknown}} }

func (r *reader) statement() []Effect {
	if r.skip("SET", "STATEMENT") { // SET STATEMENT ... FOR statement
		for len(r.all) > 0 && !r.skip("FOR") {
			r.next()
		}
	}
	for r.sign("(") {
		continue
	}
	switch first := r.next(); {
	case first.kind == ending:
		return nil
	case first.is("CREATE"):
		return r.create()
	case first.is("ALTER"):
		return r.alter()
	case first.is("DROP"):
		return r.drop()
	case first.is("RENAME"):
		return r.rename()
	case first.is("TRUNCATE"):
		r.skip("TABLE")
		if t, ok := r.table(); ok {
			return []Effect{{Kind: Truncate, Tables: []Table{t}}}
		}
		return unknown()
	case first.is("BEGIN"), first.is("START"):
		return nil
	case first.is("COMMIT"):
		return []Effect{{Kind: Commit}}
	case first.is("ROLLBACK"):
		r.skip("WORK")
		if r.skip("TO") {
			r.skip("SAVEPOINT")
			return []Effect{{Kind: RollbackTo, Savepoint: strings.ToLower(r.next().text)}}
		}
		return []Effect{{Kind: Rollback}}
	case first.is("SAVEPOINT"):
		return []Effect{{Kind: Savepoint, Savepoint: strings.ToLower(r.next().text)}}
	case first.is("RELEASE"):
		return nil
	case first.is("XA"):
		return r.xa()
	case first.is("INSERT"), first.is("UPDATE"), first.is("DELETE"), first.is("REPLACE"), first.is("LOAD"):
		return []Effect{{Kind: Rows, Tables: r.mentioned()}}
	case first.is("REPAIR"):
		r.skipAny("NO_WRITE_TO_BINLOG", "LOCAL")
		if r.skip("VIEW") {
			return nil
		}
		r.skipOne("TABLE", "TABLES")
		return []Effect{{Kind: Repair, Tables: r.mentioned()}}
	case isHarmless(first.text) && first.kind == word:
		return nil
	default:
		return unknown()
	}
}

// isHarmless reports whether statements that begin so change no table's rows or columns.
func isHarmless(first string) bool {
	switch strings.ToUpper(first) {
	case "GRANT", "REVOKE", "SET", "ANALYZE", "OPTIMIZE", "CHECK", "FLUSH", "RESET", "INSTALL", "UNINSTALL", "USE", "LOCK", "UNLOCK", "PURGE", "CHANGE", "KILL", "CACHE", "COMMENT":
		return true
	}
	return false
}

// mentioned are all the names that could be those of tables, in the rest of a statement.
func (r *reader) mentioned() []Table {
	var all []Table
	for len(r.all) > 0 {
		if !r.peek().isName() {
			r.next()
			continue
		}
		if t, ok := r.table(); ok {
			all = append(all, t)
		}
	}
	return all
}

func (r *reader) xa() []Effect {
	switch verb := r.next(); {
	case verb.is("COMMIT"):
		return []Effect{{Kind: XACommit}}
	case verb.is("ROLLBACK"):
		return []Effect{{Kind: XARollback}}
	}
	return nil // XA END, PREPARE, START
}

func (r *reader) create() []Effect {
	e := Effect{Kind: Create}
	e.Replaces = r.skip("OR", "REPLACE")
	temporary := r.skip("TEMPORARY")
	switch {
	case r.skip("TABLE"):
		e.IfNotExists = r.skip("IF", "NOT", "EXISTS")
		t, ok := r.table()
		if !ok {
			return unknown()
		}
		if temporary {
			return nil
		}
		e.Tables = []Table{t}
		r.definitions(&e)
		return []Effect{e}
	case r.skipIndex():
		r.skip("IF", "NOT", "EXISTS")
		for len(r.all) > 0 {
			if r.skip("ON") {
				if t, ok := r.table(); ok {
					return []Effect{{Kind: Alter, Tables: []Table{t}}}
				}
				break
			}
			r.next()
		}
		return unknown()
	}
	return r.createOther()
}

// definitions reads the columns in the brackets of a CREATE TABLE.
func (r *reader) definitions(e *Effect) {
	if !r.sign("(") {
		return
	}
	e.DefinesAll = true
	for len(r.all) > 0 {
		if !r.definition(e, false) {
			e.DefinesAll = false
		}
		for depth := 0; ; {
			s := r.next()
			switch {
			case s.kind == ending, s.kind == sign && s.text == ")" && depth == 0:
				e.DefinesAll = e.DefinesAll && !slices.ContainsFunc(r.all, addsColumns)
				return
			case s.kind == sign && s.text == "(":
				depth++
			case s.kind == sign && s.text == ")":
				depth--
			}
			if s.kind == sign && s.text == "," && depth == 0 {
				break
			}
		}
	}
}

// addsColumns reports whether a word after the columns of a CREATE may bring others: those of a
// query or of another table, and of versions.
func addsColumns(t token) bool {
	return t.kind == word && slices.ContainsFunc([]string{"SELECT", "WITH", "VALUES", "TABLE", "LIKE", "SYSTEM"}, t.is)
}

// notColumns are the words with which other parts of a definition begin.
var notColumns = []string{"PRIMARY", "KEY", "INDEX", "UNIQUE", "CONSTRAINT", "FOREIGN", "CHECK", "FULLTEXT", "SPATIAL", "PERIOD", "LIKE", "SELECT", "PARTITION", "SYSTEM"}

// definition reads the name and the type of a column, where one is defined there. It reports
// whether it knows what is.
func (r *reader) definition(e *Effect, added bool) bool {
	if len(r.all) > 0 && r.all[0].kind == word && slices.ContainsFunc(notColumns, r.all[0].is) {
		return !r.all[0].is("LIKE") && !r.all[0].is("SELECT") && !r.all[0].is("PERIOD")
	}
	if len(r.all) < 2 || !r.all[0].isName() || r.all[1].kind != word {
		return false
	}
	c := Column{Name: r.next().text, Type: strings.ToLower(r.next().text), Added: added}
	c.Computed = c.Type == "serial"
	r.constraints(&c)
	e.Defined = append(e.Defined, c)
	return true
}

// constraints looks ahead, up to the end of a column's definition, for what fills it.
func (r *reader) constraints(c *Column) {
	depth := 0
	for i, t := range r.all {
		next := func(n int) token {
			if i+n < len(r.all) {
				return r.all[i+n]
			}
			return token{kind: ending}
		}
		switch {
		case t.kind == sign && t.text == "(":
			depth++
		case t.kind == sign && t.text == ")":
			if depth--; depth < 0 {
				return
			}
		case t.kind == sign && t.text == "," && depth == 0:
			return
		case depth > 0:
		case t.is("NOT") && next(1).is("NULL"):
			c.NotNull = true
		case t.is("PRIMARY"):
			c.NotNull = true
		case t.is("AS"), t.is("GENERATED"), t.is("AUTO_INCREMENT"), t.is("SERIAL"):
			c.Computed = true
		case t.is("DEFAULT"):
			c.Default, c.HasDefault, c.Computed = constant(next)
		}
	}
}

// constant is a default that is a number or a text without anything that has to be read otherwise
// than it stands: what follows DEFAULT, as the tokens behind it are given. NULL is none, and what
// is neither follows from an expression.
func constant(behind func(n int) token) (text string, given, computed bool) {
	n, minus := 1, ""
	if t := behind(1); t.kind == sign && t.text == "-" {
		n, minus = 2, "-"
	}
	t, end := behind(n), behind(n+1)
	switch {
	case minus == "" && t.is("NULL"):
		return "", false, false
	case minus == "" && t.is("TRUE"):
		return "1", true, false
	case minus == "" && t.is("FALSE"):
		return "0", true, false
	case t.kind != value:
		return "", false, true
	}
	number := t.end-t.offset == len(t.text)
	text = t.text
	if point, decimals := end, behind(n+2); number && point.kind == sign && point.text == "." && point.offset == t.end && decimals.kind == value && decimals.offset == point.end && decimals.end-decimals.offset == len(decimals.text) {
		text, end = text+"."+decimals.text, behind(n+3)
	}
	if end.kind == value || end.kind == sign && end.text != "," && end.text != ")" { // texts side by side are one
		return "", false, true
	}
	if !number {
		plain := minus == "" && t.end-t.offset == len(text)+2 && !strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r > '~' })
		if !plain {
			return "", false, true
		}
		return text, true, false
	}
	text = strings.TrimLeft(text, "0")
	if text == "" || text[0] == '.' {
		text = "0" + text
	}
	if strings.Trim(text, "0.") == "" {
		minus = ""
	}
	return minus + text, true, false
}

// skipIndex takes the words between CREATE and an index's name.
func (r *reader) skipIndex() bool {
	before := r.all
	r.skipAny("UNIQUE", "FULLTEXT", "SPATIAL", "ONLINE", "OFFLINE")
	if r.skip("INDEX") || r.skip("KEY") {
		return true
	}
	r.all = before
	return false
}

// createOther is for what is no table: views, routines, triggers, users, sequences.
func (r *reader) createOther() []Effect {
	for i := 0; i < 40 && len(r.all) > 0; i++ {
		switch t := r.next(); {
		case t.kind != word:
			continue
		case t.is("VIEW"), t.is("TRIGGER"), t.is("PROCEDURE"), t.is("FUNCTION"), t.is("EVENT"), t.is("USER"), t.is("ROLE"), t.is("DATABASE"), t.is("SCHEMA"),
			t.is("SEQUENCE"), t.is("SERVER"), t.is("PACKAGE"), t.is("TABLESPACE"):
			return nil
		}
	}
	return unknown()
}

func (r *reader) drop() []Effect {
	temporary := r.skip("TEMPORARY")
	switch {
	case r.skip("TABLE"), r.skip("TABLES"):
		r.skip("IF", "EXISTS")
		e := Effect{Kind: Drop}
		for {
			t, ok := r.table()
			if !ok {
				return unknown()
			}
			e.Tables = append(e.Tables, t)
			if !r.sign(",") {
				break
			}
		}
		if temporary {
			return nil
		}
		return []Effect{e}
	case r.skip("DATABASE"), r.skip("SCHEMA"):
		r.skip("IF", "EXISTS")
		return []Effect{{Kind: DropDatabase, Database: r.name(r.next().text)}}
	case r.skip("INDEX"):
		r.skip("IF", "EXISTS")
		for len(r.all) > 0 {
			if r.skip("ON") {
				if t, ok := r.table(); ok {
					return []Effect{{Kind: Alter, Tables: []Table{t}}}
				}
				break
			}
			r.next()
		}
		return unknown()
	}
	return r.createOther()
}

func (r *reader) rename() []Effect {
	if r.skip("USER") {
		return nil
	}
	if !r.skip("TABLE") && !r.skip("TABLES") {
		return unknown()
	}
	r.skip("IF", "EXISTS")
	e := Effect{Kind: Rename}
	for {
		from, ok := r.table()
		r.waits()
		if !ok || !r.skip("TO") {
			return unknown()
		}
		to, ok := r.table()
		if !ok {
			return unknown()
		}
		e.Tables, e.To = append(e.Tables, from), append(e.To, to)
		if !r.sign(",") {
			return []Effect{e}
		}
	}
}

// waits takes WAIT n or NOWAIT.
func (r *reader) waits() {
	if r.skip("WAIT") {
		r.next()
	}
	r.skip("NOWAIT")
}
