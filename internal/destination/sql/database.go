package sql

import (
	"context"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
)

// Database is one session with a database, and what its kind does in its own way. It is not
// safe for several goroutines.
type Database interface {
	Dialect
	Definer
	RowWriter

	// Exec runs a statement without parameters and says how many rows it has touched.
	Exec(ctx context.Context, statement string) (rows int64, err error)
	// Begin opens a transaction.
	Begin(ctx context.Context) error
	// Beside opens another session like this one, the caller's own, for definitions that
	// would commit what is open here. It is asked for only where definitions are no part of
	// transactions.
	Beside(ctx context.Context) (Database, error)
	// Redefined says that a table or type has another definition now: what was prepared for
	// the former one is of no use.
	Redefined()
	// Undone says that what was done since a savepoint has been taken back: temporary tables
	// that were made since are not there.
	Undone()
	// TakeOver makes this session the one that writes for the outlet, and ends any other,
	// which may only have been taken for dead. It reads how far the tables are, and makes
	// the table of offsets where there is none.
	TakeOver(ctx context.Context, o destination.Outlet) (*Record, error)
	// WriteRecord puts the record into the open transaction; where another session has
	// begun, it fails with [ErrFenced].
	WriteRecord(ctx context.Context, r *Record) error
	// Other is the outlet, besides this one, that writes a table, by its quoted name.
	Other(ctx context.Context, target string) (outlet string, err error)

	// Explained says an error in words where it is one that people can do something about.
	Explained(err error) error
	// RefusesRow reports whether an error is about one row's values: another row may be
	// taken.
	RefusesRow(err error) bool
	// RefusesDefinition reports whether an error is about a statement that makes or alters a
	// table: the same statement is refused again.
	RefusesDefinition(err error) bool
	// IsUnique reports whether a value is there already that must be unique.
	IsUnique(err error) bool
	// Refusal is an error about a row of a table in a sentence.
	Refusal(table string, err error) error

	// Close ends the session, and with it an open transaction.
	Close() error
}

// Dialect is how a kind of database writes what every kind has.
type Dialect interface {
	// Quote quotes a name, Literal a text.
	Quote(name string) string
	Literal(text string) string
	// Constant is a value of a column in a statement, of the text that Writing makes.
	Constant(c *Column, text []byte) string
	// AppendTime appends the text of a moment.
	AppendTime(dst []byte, t time.Time) []byte
	// Infinity is the text of a moment after all others, as the end of what holds still.
	Infinity() string
	// LongestName is how many bytes a name can have.
	LongestName() int
	// Own are the columns that a way to keep rows adds.
	Own(k Keep) []*Column
	// TransactionalDefinitions reports whether tables are made and altered within a
	// transaction. Where they are not, each such statement commits what is open.
	TransactionalDefinitions() bool

	// The statements that define tables; keys are quoted names. Where definitions are no part
	// of transactions, each can be run once more.
	Create(t *Table, key []string) []string
	AddColumn(t *Table, c *Column) string
	Modify(t *Table, c *Column) string // to the type and the nullability of c
	// Retype are the ways to give a column the type of c, in the order in which they are tried.
	Retype(t *Table, c *Column) []string
	Rename(t *Table, renamed []change.Rename) []string
	DropColumn(t *Table, name string) string
	// Rekey gives a table another key; where rows lack values of it, one that is unique for
	// those that have them. Without a key it takes the former one; empty where there is none.
	Rekey(t *Table, key []string, missing bool) string
	// VersionsIndex finds the versions of a row, the newest at once however many there are.
	VersionsIndex(t *Table, key []string) string
}

// Definer looks at what is there.
type Definer interface {
	// Look reads a table's definition into t, which gets no columns where it is not there.
	Look(ctx context.Context, t *Table) error
	// MakeSchema is what makes a schema, nothing where it is there.
	MakeSchema(ctx context.Context, schema string) ([]string, error)
	// TypeOf is the type of a column of a source's schema version here, and what has to be done before it is
	// there. What it does itself it asks for first.
	TypeOf(ctx context.Context, of *change.Schema, c *change.Column, may func(what string, statements ...string) error) (kind string, before []string, err error)
	// Distinguishes says why rows of a source with different keys would be one row in the
	// table, and what helps; nil where they are not.
	Distinguishes(t *Table, of *change.Schema) error
	// Filled reports whether a table has any row of which a condition holds.
	Filled(ctx context.Context, t *Table, where string) (bool, error)
}

// RowWriter writes rows. A failure leaves the open transaction as a savepoint before it finds
// it, or ends it.
type RowWriter interface {
	// Writing is how a source's column is written into one of the table's; nil where the
	// canonical text will do.
	Writing(c *change.Column, into *Column) Writing
	// Single writes messages one after another, each as it is.
	Single(ctx context.Context, b *Binding, messages []*encode.Message) error
	// AtOnce writes a few rows and the record in one transaction of their own that goes to
	// the server in one go. It reports whether it has; where the server refuses anything,
	// nothing has been written.
	AtOnce(ctx context.Context, bindings []*Binding, messages []*encode.Message, r *Record) (written bool, err error)
	// Insert writes rows that are new. Where one of them is there it fails with what
	// IsUnique knows.
	Insert(ctx context.Context, b *Binding, rows Rows) error
	// Replace writes rows that are there, and puts in those that are not after all. Values
	// may be unique only once all of them are written.
	Replace(ctx context.Context, b *Binding, rows Rows) error
	// Patch writes the columns at places of rows that are there.
	Patch(ctx context.Context, b *Binding, places []int, rows Rows) error
	// Remove takes rows out, or flags them: of their values only the key is there.
	Remove(ctx context.Context, b *Binding, rows Rows) error
	// EndVersions ends the newest versions of rows, at From and Offset of rows.
	EndVersions(ctx context.Context, b *Binding, rows Rows) error
	// Absent says which of some rows are not there, by their places.
	Absent(ctx context.Context, b *Binding, sought []Sought) ([]int, error)
	// NoteKeys puts the keys of rows into another table, where they are not there.
	NoteKeys(ctx context.Context, b *Binding, into string, rows Rows) error
	// MakeKeys makes a table of a table's keys, empty, in place of one that may be there.
	MakeKeys(ctx context.Context, t *Table, name string, key []string) error
	// OfAll runs a statement that looks at all rows of a table.
	OfAll(ctx context.Context, statement string) (rows int64, err error)
}

// Writing appends a value's text, as the database reads it, to dst.
type Writing func(dst, canonical []byte) ([]byte, error)

// Rows are rows of a schema version on their way into a table.
type Rows struct {
	N      int
	Values func(i int) []change.Value
	// Own appends one of our own columns of a row; nil where they are not written.
	Own func(dst []byte, i, which int) (text []byte, null bool)
}

// Sought is a row that may be there: not one that is flagged as deleted, nor one all of whose
// versions have ended.
type Sought struct {
	// Image has the key at least.
	Image []change.Value
	// Moved says that the row has just left this key, so that its last version has ended.
	Moved bool
}

// Table is a table of the database.
type Table struct {
	Source       string // its name in events
	Schema, Name string
	SQL          string // both, quoted
	Keep         Keep
	Columns      []*Column
	Primary      []string   // the columns of its primary key
	PrimaryName  string     // that key's own name
	Uniques      [][]string // columns of unique indexes that hold for all rows, the primary key's included
	// Indexes are the columns of each index, where the kind of database names them in
	// statements.
	Indexes  map[string][]string
	NotTable bool     // something else has the name
	Notes    []string // what a person is to know of it before rows are written
	AnyCase  bool     // names of columns are the same whatever their case
	loading  string   // quoted name of the keys that a load has brought; empty for none
	bound    *Binding // for the newest schema version
}

// Column is a column of a table.
type Column struct {
	Name, Kind string
	NotNull    bool
	Generated  bool
	// Defaulted says that a row which has no value of it gets one by itself.
	Defaulted bool
	// Rest is what the kind of database says of the column besides.
	Rest string
}

// Column is the one of a name; nil where there is none.
func (t *Table) Column(name string) *Column {
	for _, c := range t.Columns {
		if c.Name == name || t.AnyCase && strings.EqualFold(c.Name, name) {
			return c
		}
	}
	return nil
}

// Record is what the database itself keeps of an outlet, in the table of offsets.
type Record struct {
	// Run counts the outlet's rewinds.
	Run int
	// Offset is that up to which everything is in the tables.
	Offset int64
	// Committed is when that was committed at the source; zero where it is not known.
	Committed time.Time
	// Tables are those that the outlet writes, by their names in the source; TablesChanged
	// says that they are not those on record.
	Tables        map[string]*TableState
	TablesChanged bool
}

// TableState is what is kept of one table. It is replaced, never changed.
type TableState struct {
	// Target is the table's quoted name here.
	Target string `json:"target"`
	// Keep is how its rows are kept.
	Keep Keep `json:"keep"`
	// Rewound says that all of it comes again: the table may be made anew.
	Rewound bool `json:"rewound,omitempty"`
	// Loading is the quoted name of the table with the keys that a load has brought so
	// far; empty where none is under way.
	Loading string `json:"loading,omitempty"`
	// Kept says that the rows that were there at the start stay until the load is complete
	// that was under way then.
	Kept bool `json:"kept,omitempty"`
	// Since is the offset from which on a load's rows count.
	Since int64 `json:"since,omitempty"`
	// Reading says that no load of all rows is complete, or another is under way: what is not
	// here may still come.
	Reading bool `json:"reading,omitempty"`
	// Renaming is the offset of the event that renames columns, and Columns what they were:
	// where definitions are not part of transactions, it shows whether that was done.
	Renaming int64    `json:"renaming,omitempty"`
	Columns  []string `json:"columns,omitempty"`
	// Dropped are columns that the source has dropped and that were kept here.
	Dropped []string `json:"dropped,omitempty"`
	// Held, where not nil, has its events passed over.
	Held *Hold `json:"held,omitempty"`
	// Lacks says why rows lack values until all are loaded again; empty where they do not.
	Lacks string `json:"lacks,omitempty"`
	// Untouched says that no row has been written since the outlet met the table: it was never
	// set up right, where its first row finds that it is not.
	Untouched bool `json:"untouched,omitempty"`
	// Refused counts the rows of the load that is under way which were refused.
	Refused int64 `json:"refused,omitempty"`
}
