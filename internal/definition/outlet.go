package definition

import (
	"encoding/json"
	"fmt"
	"maps"
	"regexp"
	"slices"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/destination"
	"rillmark/internal/destination/kinds"
	"rillmark/internal/encode"
	"rillmark/internal/expression"
	"rillmark/internal/settings"
	"rillmark/internal/shape"
)

// Outlet is one consumer of a journal.
type Outlet struct {
	Source      string   `json:"source" doc:"The source whose journal is read" title:"Source" minLength:"1"`
	Destination string   `json:"destination,omitempty" title:"Destination" doc:"Where the events go; without it consumers come and read (pull)"`
	Tables      []string `json:"tables,omitempty" title:"Tables" doc:"Patterns of the tables whose events go out; all without it"`
	Operations  []string `json:"operations,omitempty" flag:"operation" title:"Operations" doc:"Operations that go out; all without it" enum:"existing,insert,update,delete,truncate,schema,loaded,void,message"`
	// Where has conditions on rows by patterns of tables.
	Where map[string]string `json:"where,omitempty" title:"Only rows for which" doc:"Conditions on rows, in CEL, by patterns of tables, such as branch_id == 3 for public.loans. Where several patterns match a table, all of their conditions have to hold; tables that none matches go out whole"`
	// AllowMissing are patterns of conditions and forms that need not match a table yet.
	AllowMissing []string `json:"allow_missing,omitempty" title:"Tables still to come" advanced:"yes" maxItems:"200" doc:"Patterns of conditions and forms that match no table of the source yet; any other that matches none is refused, since a mistyped name would let rows and columns out"`
	Crossings    string   `json:"crossings,omitempty" title:"Rows that enter or leave" advanced:"yes" enum:"convert,keep" default:"convert" doc:"convert: an update by which a row enters the conditions goes out as an insert, and as a delete where it leaves them; keep: it goes out as the update that it is"`
	// Rows are the forms in which rows go out; Functions are those that they call.
	Rows      []RowForm  `json:"rows,omitempty" flag:"-" title:"Form of rows" advanced:"yes" maxItems:"200" doc:"In which form rows go out, by patterns of tables: columns that are dropped, masked, hashed or renamed, and new ones by expression. A table that none matches goes out as it is. Conditions look at rows as the source has them"`
	Functions []Function `json:"functions,omitempty" flag:"-" title:"Functions" advanced:"yes" maxItems:"200" doc:"Functions of your own, for the expressions of new columns"`
	// Forms are names of forms that outlets share.
	Forms   []string `json:"forms,omitempty" title:"Shared forms" advanced:"yes" maxItems:"20" doc:"Names of forms of rows that outlets share (rillmark form add): their rows stand behind the outlet's own, and the outlet's expressions may call their functions"`
	From    string   `json:"from,omitempty" title:"Start at" doc:"Where a new outlet starts: beginning, load (its tables are loaded for it alone, and followed from then on), now, cutover (it is paused until a cut over has it lead back), an offset, time:2026-11-23T09:00:00Z, or mark:NAME" default:"beginning" maxLength:"80"`
	Changes string   `json:"changes,omitempty" title:"Changes" enum:"each,combined,inserts" default:"each" doc:"Each change; combined: of the changes of a row that lie in one batch, or between a reader's committed offset and now, only what they come to; inserts: only rows that are new"`

	Format       encode.Format `json:"format,omitempty" title:"Format" enum:"cloudevents,cloudevents-binary,data,row,avro,parquet,table" doc:"How events are written, cloudevents without it, and table for a database, which has nothing else; cloudevents: structured JSON; cloudevents-binary: attributes as headers; data: the data alone; row: the row alone, flat; avro: the row in Avro; parquet: the row in Parquet files; table: rows of tables"`
	Columns      string        `json:"columns,omitempty" title:"Columns of an update" advanced:"yes" enum:"all,changed" default:"all" doc:"All columns of an update; changed: only the key and what changed"`
	Along        []string      `json:"along,omitempty" title:"Columns that come along" advanced:"yes" doc:"With columns: changed, patterns of columns that go out whether they have changed or not; those that a condition names do anyway"`
	Nulls        string        `json:"nulls,omitempty" title:"Columns that are null" advanced:"yes" enum:"keep,omit" default:"keep" doc:"Columns that are null go out; omit: they are left out"`
	Metadata     []string      `json:"metadata,omitempty" title:"Metadata" advanced:"yes" doc:"With data and cloudevents: which of database, changed, transaction and log go out, all without it. With row, avro and parquet: columns that are put after the row's own, operation and offset without it, with row and several tables in one place table too" enum:"id,offset,operation,table,source,database,committed_at,transaction,position,changed,log,none"`
	Updates      string        `json:"updates,omitempty" title:"Updates" advanced:"yes" enum:"one,pair" default:"one" doc:"An update is one event; pair: it goes out as two, the old row and the new one, tied by their id"`
	Deletes      string        `json:"deletes,omitempty" title:"Deletes" enum:"event,marker,both" default:"event" doc:"A delete is an event; marker: it goes out as its key without a value, for consumers that keep the newest value of each key; both: the event, then the marker"`
	Transactions bool          `json:"transactions,omitempty" title:"Close transactions" advanced:"yes" doc:"After a transaction's last event comes one that closes it, with its counts by table"`
	Integers     string        `json:"integers,omitempty" title:"Integers of 64 bits" advanced:"yes" enum:"number,text" default:"number" doc:"Integers are numbers; text: integers of 64 bits as JSON strings, for readers that round above 2^53"`
	Avro         *Avro         `json:"avro,omitempty" title:"How Avro names its schema" when:"format=avro"`

	Topic       string  `json:"topic,omitempty" title:"Topic, subject or stream" maxLength:"300" doc:"Topic, subject or stream, built from fields in braces, such as {source}.{schema}.{table}" `
	SchemaTopic string  `json:"schema_topic,omitempty" title:"Topic of schema events" advanced:"yes" maxLength:"300" doc:"Where schema events go, if not with the others"`
	Key         string  `json:"key,omitempty" title:"Key" maxLength:"300" doc:"The message's key, {key} without it: the row's key"`
	Partition   string  `json:"partition,omitempty" title:"Partition" advanced:"yes" maxLength:"300" doc:"Messages with the same text go to the same partition: the key without it; {table} or {transaction} keep those together"`
	Outbox      *Outbox `json:"outbox,omitempty" title:"A table of events" advanced:"yes" doc:"A table whose rows are events already"`

	Batch   *Batch   `json:"batch,omitempty" title:"Batches" advanced:"yes"`
	Retry   *Retry   `json:"retry,omitempty" title:"When the destination fails" advanced:"yes"`
	Refused *Refused `json:"refused,omitempty" title:"Events that are refused" advanced:"yes" doc:"What becomes of events that the destination refuses"`
	// SchemaChanges is one of [outlet.SchemaChanges].
	SchemaChanges string `json:"schema_changes,omitempty" title:"When a table is changed" advanced:"yes" enum:"pass,hold,dead-letter" default:"pass" doc:"What becomes of events behind a change of a table's definition that concerns what goes out; pass: they go out, and the outlet stops where its condition or form no longer fits; hold: the outlet stops before each change, until somebody lets it pass; dead-letter: those that its condition, form or schema registry does not take become dead letters, and the others go out"`
	HoldSize      int64  `json:"hold_journal_bytes,omitempty" title:"Journal kept for it" unit:"bytes" advanced:"yes" minimum:"0" doc:"Retention keeps what this outlet has not delivered, until the journal is this large; 0: it lets go, and says which offsets were lost"`

	VerifyEvery string `json:"verify_every,omitempty" title:"Verify every" advanced:"yes" example:"24h" doc:"How often the tables that it keeps are compared with the source's, such as 24h; only when somebody asks without it"`
	Description string `json:"description,omitempty" title:"Description" maxLength:"500"`

	// Kind is that of the destination whose section is here: in JSON, the section's name.
	Kind string `json:"-"`
	// Settings is the section of the destination's kind; nil where there is none.
	Settings destination.OutletSettings `json:"-"`

	shared   []sharedRows // set once the forms that it names are in their places
	own      int          // its own functions stand from there on
	sections []string     // those that were read
}

// UnmarshalJSON implements [json.Unmarshaler].
func (o *Outlet) UnmarshalJSON(raw []byte) error {
	type plain Outlet
	if err := json.Unmarshal(raw, (*plain)(o)); err != nil {
		return err
	}
	o.Kind, o.Settings, o.sections = "", nil, nil
	sections, err := sectionsOf(raw)
	for name, text := range sections {
		o.sections = append(o.sections, name)
		if kind := kinds.Named(name); err == nil && kind.Outlet != nil {
			o.Kind, o.Settings = name, kind.Outlet()
			err = json.Unmarshal(text, o.Settings)
		}
	}
	slices.Sort(o.sections)
	return err
}

// MarshalJSON implements [json.Marshaler].
func (o Outlet) MarshalJSON() ([]byte, error) {
	type plain Outlet
	if o.Settings == nil {
		return json.Marshal(plain(o))
	}
	return withSection(plain(o), o.Kind, o.Settings)
}

// Outbox is a table whose rows are events: each insert goes out as the row's
// own message.
type Outbox struct {
	Table   string `json:"table" title:"Table" minLength:"1" doc:"Such as public.notices"`
	ID      string `json:"id" title:"Column of the id" minLength:"1" doc:"Column with the event's own id"`
	Kind    string `json:"kind" title:"Column of the type" minLength:"1" doc:"Column with the event's type"`
	Body    string `json:"body" title:"Column of what is sent" minLength:"1" doc:"Column with what is sent"`
	Subject string `json:"subject,omitempty" title:"Column of the subject" doc:"Column with what the event is about; it is the message's key"`
	Time    string `json:"time,omitempty" title:"Column of the time" doc:"Column with when it happened; the commit's time without it"`
	Topic   string `json:"topic,omitempty" title:"Topic" maxLength:"300" doc:"Where it goes: a template that may name {kind}"`
}

// Batch says how many events go out at once.
type Batch struct {
	Events int    `json:"events,omitempty" title:"Events" unit:"events" minimum:"1" maximum:"100000" doc:"At most so many in one batch"`
	Bytes  int64  `json:"bytes,omitempty" title:"Size" unit:"bytes" minimum:"1024" maximum:"67108864" doc:"A batch that reaches this size goes out"`
	Every  string `json:"every,omitempty" title:"Wait for more" example:"500ms" doc:"Events wait for others up to this long, such as 500ms or 15m; they go out at once without it"`
}

// Retry says how a destination that fails is tried again.
type Retry struct {
	FirstWait   string `json:"first_wait,omitempty" title:"First wait" example:"200ms" doc:"Default 200ms; each wait is twice the one before"`
	LongestWait string `json:"longest_wait,omitempty" title:"Longest wait" example:"30s" doc:"Default 30s"`
	Attempts    int    `json:"attempts,omitempty" title:"Attempts before a dead letter" unit:"attempts" minimum:"0" maximum:"10000" doc:"An event that failed so often becomes a dead letter; 0: it is tried until it goes"`
}

// Refused says what becomes of events that the destination refuses.
type Refused struct {
	Later          string `json:"later,omitempty" title:"Later events of the row" enum:"wait,pass" default:"wait" doc:"What becomes of later events of a row of which one is a dead letter; wait: later events of the same key wait behind a dead letter; pass: they go out"`
	MaxDeadLetters int    `json:"max_dead_letters,omitempty" title:"Limit of dead letters" unit:"events" minimum:"1" maximum:"1000000" default:"10000" doc:"With so many dead letters and events behind them the outlet stops and holds"`
}

// PullFormats are those that consumers can read.
var PullFormats = []encode.Format{encode.FormatCloudEvents, encode.FormatData, encode.FormatRow}

// metadataOfData are the parts of data and cloudevents that can be chosen.
var metadataOfData = []string{"database", "changed", "transaction", "log", "none"}

var mark = regexp.MustCompile(`^mark:[a-z][a-z0-9-]{0,39}$`)

const (
	// FromLoad is a beginning of an outlet: its tables are loaded for it alone.
	FromLoad = "load"
	// FromCutover is a beginning of an outlet: it is paused until a cut over has it lead back.
	FromCutover = "cutover"
)

// CheckPlace refuses what names no place in a journal.
func CheckPlace(at, s string) error {
	switch {
	case s == "beginning", s == "now", regexp.MustCompile(`^[0-9]{1,18}$`).MatchString(s), mark.MatchString(s):
		return nil
	}
	if text, is := strings.CutPrefix(s, "time:"); is {
		if _, err := time.Parse(time.RFC3339, text); err == nil {
			return nil
		}
		return settings.Wrong(at, "%q is no time: write time:2026-11-23T09:00:00Z", s)
	}
	return settings.Wrong(at, "%q is no place in a journal: write beginning, now, an offset, time:2026-11-23T09:00:00Z or mark:NAME", s)
}

// Validate checks what can be checked without the journal, and fills in what is
// left to us.
func (o *Outlet) Validate() error {
	for _, field := range []struct {
		at, def string
		value   *string
		choices []string
	}{
		{"format", "cloudevents", (*string)(&o.Format), encode.Formats},
		{"changes", "each", &o.Changes, []string{"each", "combined", "inserts"}},
		{"crossings", "convert", &o.Crossings, []string{"convert", "keep"}},
		{"columns", "all", &o.Columns, []string{"all", "changed"}},
		{"nulls", "keep", &o.Nulls, []string{"keep", "omit"}},
		{"updates", "one", &o.Updates, []string{"one", "pair"}},
		{"deletes", "event", &o.Deletes, []string{"event", "marker", "both"}},
		{"integers", "number", &o.Integers, []string{"number", "text"}},
		{"schema_changes", "pass", &o.SchemaChanges, []string{"pass", "hold", "dead-letter"}},
	} {
		if *field.value == "" && field.at == "format" && o.Destination != "" {
			continue // ValidateFor says it
		}
		if *field.value == "" {
			*field.value = field.def
		}
		if !slices.Contains(field.choices, *field.value) {
			return settings.Wrong(field.at, "unknown %s %q: there are %s", field.at, *field.value, strings.Join(field.choices, ", "))
		}
	}
	if o.From == "" {
		o.From = "beginning"
	}
	if o.From == FromCutover && o.Destination == "" {
		return settings.Wrong("from", "cutover is for outlets to a database")
	}
	if o.From != FromLoad && o.From != FromCutover {
		if err := CheckPlace("from", o.From); err != nil {
			return err
		}
	}
	if _, err := o.Filter(); err != nil {
		return err
	}
	if len(o.Along) > 0 && o.Columns != "changed" {
		return settings.Wrong("along", "all columns come anyway, unless columns is changed")
	}
	if err := o.checkForms(); err != nil {
		return err
	}
	if len(o.Forms) == 0 || o.shared != nil { // else its expressions can call what is not known here
		if _, err := o.RowForms(); err != nil {
			return err
		}
	}
	if err := o.validateShape(); err != nil {
		return err
	}
	if _, err := o.Limits(); err != nil {
		return err
	}
	if _, _, err := o.Retry.Waits(); err != nil {
		return err
	}
	if o.Refused == nil {
		o.Refused = new(Refused)
	}
	if o.Refused.Later == "" {
		o.Refused.Later = "wait"
	}
	if o.Refused.MaxDeadLetters == 0 {
		o.Refused.MaxDeadLetters = 10_000
	}
	if o.Destination == "" {
		if len(o.sections) > 0 {
			at := o.sections[0]
			return settings.Wrong(at, "%s applies only to outlets with a destination; this one has none: its consumers read it", at)
		}
		for at, there := range map[string]bool{"verify_every": o.VerifyEvery != "", "topic": o.Topic != "", "schema_topic": o.SchemaTopic != "", "partition": o.Partition != "", "batch": o.Batch != nil, "schema_changes": o.SchemaChanges != "pass"} {
			if there {
				return settings.Wrong(at, "%s applies only to outlets with a destination; this one has none: its consumers read it", at)
			}
		}
		if !slices.Contains(PullFormats, o.Format) {
			return settings.Wrong("format", "an outlet that is read over HTTP has the format cloudevents, data or row, not %s", o.Format)
		}
	}
	return nil
}

func (o *Outlet) validateShape() error {
	for _, template := range []struct{ at, text string }{{"topic", o.Topic}, {"schema_topic", o.SchemaTopic}, {"key", o.Key}, {"partition", o.Partition}} {
		if _, err := shape.ParseTemplate(template.text); err != nil {
			return settings.Wrong(template.at, "%s", err)
		}
	}
	flat := o.Format == encode.FormatRow || o.Format == encode.FormatAvro || o.Format == encode.FormatParquet
	for i, m := range o.Metadata {
		at := fmt.Sprintf("metadata[%d]", i)
		if flat && !encode.IsMetadata(m) && m != "none" {
			return settings.Wrong(at, "%q is no metadata of format %s: there are %s and none", m, o.Format, strings.Join(encode.MetadataNames(), ", "))
		}
		if !flat && !slices.Contains(metadataOfData, m) {
			return settings.Wrong(at, "%q is no metadata of format %s: there are %s", m, o.Format, strings.Join(metadataOfData, ", "))
		}
	}
	if flat && o.Updates == "pair" && !slices.Contains(o.Metadata, "operation") && len(o.Metadata) > 0 {
		return settings.Wrong("updates", "old and new row would look the same: put operation into metadata")
	}
	if o.Avro != nil && o.Format != encode.FormatAvro {
		return settings.Wrong("avro", "goes with format avro")
	}
	if err := o.Avro.validate(); err != nil {
		return err
	}
	if o.Avro != nil && o.Avro.Schemas == AvroRegistered && o.Columns == "changed" {
		return settings.Wrong("columns", "a registered schema has a place for each column: choose all")
	}
	if wants, can := o.Settings.(destination.RowsFitted); can && wants.FitsRows() && o.Columns == "changed" {
		return settings.Wrong("columns", "a model has a place for each column: choose all")
	}
	if r := o.Outbox; r != nil {
		if _, err := shape.ParsePattern(r.Table); err != nil {
			return settings.Wrong("outbox.table", "%s", err)
		}
		if _, err := shape.ParseTemplate(r.Topic, "kind"); err != nil {
			return settings.Wrong("outbox.topic", "%s", err)
		}
		if o.Format == encode.FormatAvro || o.Format == encode.FormatParquet {
			return settings.Wrong("outbox", "rows that are events already go with the formats cloudevents, cloudevents-binary, data and row")
		}
	}
	if o.Changes == "combined" && (o.Transactions || o.Updates == "pair") {
		return settings.Wrong("changes", "combined changes have no single changes or closing events: leave out transactions and updates: pair")
	}
	return nil
}

// CheckFiles looks whether the files that the definition names can be read here.
func (o *Outlet) CheckFiles() error {
	if o.Avro == nil {
		return nil
	}
	return settings.CheckFiles(o.Avro, "avro")
}

// ValidateFor checks an outlet together with the destination it names, and fills in
// what is left to the destination's kind.
func (o *Outlet) ValidateFor(d *Destination) error {
	kind := kinds.Named(d.Kind)
	if kind == nil {
		return d.Validate()
	}
	for _, at := range o.sections {
		if at != kind.Name {
			return settings.Wrong(at, "goes with a destination of kind %s; %s is one of kind %s", at, o.Destination, d.Kind)
		}
		if kind.Outlet == nil {
			return settings.Wrong(at, "outlets to destinations of kind %s have no section of their own", d.Kind)
		}
	}
	if o.Format == "" {
		o.Format = kind.Formats[0]
	}
	if !slices.Contains(kind.Formats, o.Format) {
		return settings.Wrong("format", "%s is of kind %s, which does not take %s: there are %s", o.Destination, d.Kind, o.Format, formatNames(kind.Formats))
	}
	if _, err := o.VerifyInterval(); err != nil {
		return err
	}
	if o.SchemaChanges == "dead-letter" && o.Format == encode.FormatTable {
		return settings.Wrong("schema_changes", "tables of a database follow a change, or stop before it: choose pass or hold")
	}
	if err := o.validateRows(); err != nil {
		return err
	}
	if err := o.validateTopics(kind); err != nil {
		return err
	}
	if o.Deletes != "event" && !kind.Markers {
		return settings.Wrong("deletes", "markers are messages with a key and no value; %s is of kind %s, which has none", o.Destination, d.Kind)
	}
	if kind.SchemaInside && o.Format == encode.FormatAvro && o.Avro != nil {
		return settings.Wrong("avro", "an object container file holds its schema itself: leave the section out")
	}
	if kind.Outlet == nil {
		return nil
	}
	if o.Settings == nil {
		o.Kind, o.Settings = kind.Name, kind.Outlet()
	}
	return o.Settings.Validate(o.Format, d.Settings)
}

// OfMessages are the fields that mean nothing where rows of tables are written.
var OfMessages = []string{"columns", "nulls", "metadata", "updates", "deletes", "transactions", "integers", "avro", "key", "partition", "outbox", "changes", "along"}

// validateRows refuses what is about messages where rows of tables are written.
func (o *Outlet) validateRows() error {
	if o.Format != encode.FormatTable {
		return nil
	}
	for i, set := range []bool{o.Columns != "all", o.Nulls != "keep", len(o.Metadata) > 0, o.Updates != "one", o.Deletes != "event", o.Transactions, o.Integers != "number",
		o.Avro != nil, o.Key != "", o.Partition != "", o.Outbox != nil, o.Changes == "combined", len(o.Along) > 0} {
		if set {
			return settings.Wrong(OfMessages[i], "%s is about messages, and %s has tables: leave it out", OfMessages[i], o.Destination)
		}
	}
	return nil
}

func formatNames(formats []encode.Format) string {
	names := make([]string, len(formats))
	for i, f := range formats {
		names[i] = string(f)
	}
	return strings.Join(names, ", ")
}

func (o *Outlet) validateTopics(kind *destination.Kind) error {
	if kind.Topic == "" {
		if o.Topic != "" || o.SchemaTopic != "" {
			return settings.Wrong("topic", "a destination of kind %s has no topics", kind.Name)
		}
		return nil
	}
	if o.Topic == "" {
		o.Topic = "{source}.{schema|log}.{table|messages}"
	}
	for _, template := range []struct{ at, text string }{{"topic", o.Topic}, {"schema_topic", o.SchemaTopic}} {
		if template.text == "" {
			continue
		}
		// Each field stands for a word.
		if err := kind.CheckTopic(templateField.ReplaceAllString(template.text, "x")); err != nil {
			return settings.Wrong(template.at, "%s", err)
		}
	}
	return nil
}

var templateField = regexp.MustCompile(`\{[^}]*\}`)

// Filter is what the outlet lets through.
func (o *Outlet) Filter() (*shape.Filter, error) {
	f := new(shape.Filter)
	for i, text := range o.Tables {
		p, err := shape.ParsePattern(text)
		if err != nil {
			return nil, settings.Wrong(fmt.Sprintf("tables[%d]", i), "%s", err)
		}
		f.Tables = append(f.Tables, p)
	}
	for i, text := range o.Operations {
		operation, err := change.ParseOperation(text)
		if err != nil {
			return nil, settings.Wrong(fmt.Sprintf("operations[%d]", i), "%s", err)
		}
		f.Operations = append(f.Operations, operation)
	}
	f.AsTheyAre = o.Crossings == "keep"
	for _, match := range slices.Sorted(maps.Keys(o.Where)) {
		p, err := shape.ParsePattern(match)
		if err != nil {
			return nil, settings.Wrong("where", "%q: %s", match, err)
		}
		condition, err := expression.ParseEventCondition(o.Where[match])
		if err != nil {
			return nil, settings.Wrong("where", "%s: %s", match, err)
		}
		f.Where = append(f.Where, shape.TableCondition{Match: p, Condition: condition})
	}
	if o.Changes == "inserts" {
		if len(o.Operations) > 0 {
			return nil, settings.Wrong("changes", "inserts chooses the operations by itself: leave operations out")
		}
		f.Operations = []change.Operation{change.Existing, change.Insert}
	}
	return f, nil
}

// BatchLimits close a batch.
type BatchLimits struct {
	Events int
	Bytes  int
	Every  time.Duration
}

// Limits are those of a batch, with their defaults.
func (o *Outlet) Limits() (BatchLimits, error) {
	l := BatchLimits{Events: 10_000, Bytes: 2 << 20}
	if o.Batch == nil {
		return l, nil
	}
	if o.Batch.Events > 0 {
		l.Events = o.Batch.Events
	}
	if o.Batch.Bytes > 0 {
		l.Bytes = int(o.Batch.Bytes)
	}
	if o.Batch.Every != "" {
		var err error
		if l.Every, err = settings.Duration("batch.every", o.Batch.Every, time.Millisecond, 24*time.Hour); err != nil {
			return l, err
		}
	}
	return l, nil
}

// VerifyInterval is how often the outlet's tables are compared; 0 for never by itself.
func (o *Outlet) VerifyInterval() (time.Duration, error) {
	if o.VerifyEvery == "" {
		return 0, nil
	}
	if o.Format != encode.FormatTable {
		return 0, settings.Wrong("verify_every", "only tables of a database can be compared with the source's")
	}
	return settings.Duration("verify_every", o.VerifyEvery, time.Minute, 90*24*time.Hour)
}

// Waits are the first and the longest wait between tries.
func (r *Retry) Waits() (first, longest time.Duration, err error) {
	first, longest = 200*time.Millisecond, 30*time.Second
	if r == nil {
		return first, longest, nil
	}
	if r.FirstWait != "" {
		if first, err = settings.Duration("retry.first_wait", r.FirstWait, time.Millisecond, time.Hour); err != nil {
			return 0, 0, err
		}
	}
	if r.LongestWait != "" {
		if longest, err = settings.Duration("retry.longest_wait", r.LongestWait, time.Millisecond, 24*time.Hour); err != nil {
			return 0, 0, err
		}
	}
	return first, max(first, longest), nil
}

// tellsTable says whether a row's table is known without being named in it: only one
// goes out, or each has a place of its own.
func (o *Outlet) tellsTable() bool {
	places := o.Topic
	if placer, is := o.Settings.(destination.Placer); is {
		places += placer.PlaceTemplate()
	}
	if strings.Contains(places, "{table") {
		return true
	}
	if len(o.Tables) != 1 {
		return false
	}
	pattern, err := shape.ParsePattern(o.Tables[0])
	return err == nil && pattern.Single() != ""
}

// along are the columns of a schema version that come along with what has changed: those
// that are named so, and those that the conditions name.
func (o *Outlet) along() (func(*change.Schema) []int, error) {
	filter, err := o.Filter()
	if err != nil {
		return nil, err
	}
	var named []shape.Pattern
	for i, text := range o.Along {
		p, err := shape.ParseColumnPattern(text)
		if err != nil {
			return nil, settings.Wrong(fmt.Sprintf("along[%d]", i), "%s", err)
		}
		named = append(named, p)
	}
	if len(named) == 0 && len(filter.Where) == 0 {
		return nil, nil
	}
	return func(s *change.Schema) (columns []int) {
		conditions, _ := filter.Conditions(s) // one that does not fit has held the outlet before
		for _, c := range conditions {
			columns = append(columns, c.Uses()...)
		}
		for i, c := range s.Columns {
			if slices.ContainsFunc(named, func(p shape.Pattern) bool { return p.Matches(c.Name) }) {
				columns = append(columns, i)
			}
		}
		return columns
	}, nil
}

// Shape is how the outlet's events are put into messages; address is the
// service's public one.
func (o *Outlet) Shape(address string) (encode.Shape, error) {
	s := encode.Shape{Address: address, Format: o.Format, Changed: o.Columns == "changed", OmitNulls: o.Nulls == "omit", Metadata: o.Metadata,
		Pairs: o.Updates == "pair", Deletes: o.Deletes, Transactions: o.Transactions, IntegersAsText: o.Integers == "text"}
	if o.Format == encode.FormatRow && len(o.Metadata) == 0 && !o.tellsTable() {
		s.Metadata = []string{"operation", "offset", "table"}
	}
	var err error
	if s.Rows, err = o.RowForms(); err != nil {
		return s, err
	}
	if s.Changed {
		if s.Along, err = o.along(); err != nil {
			return s, err
		}
	}
	parse := func(text string, more ...string) *shape.Template {
		if text == "" || err != nil {
			return nil
		}
		var t *shape.Template
		t, err = shape.ParseTemplate(text, more...)
		return t
	}
	s.Topic, s.SchemaTopic, s.Key, s.Partition = parse(o.Topic), parse(o.SchemaTopic), parse(o.Key), parse(o.Partition)
	if r := o.Outbox; r != nil {
		s.Outbox = &encode.Outbox{ID: r.ID, Kind: r.Kind, Body: r.Body, Subject: r.Subject, Time: r.Time, Topic: parse(r.Topic, "kind")}
		if err == nil {
			s.Outbox.Table, err = shape.ParsePattern(r.Table)
		}
	}
	return s, err
}
