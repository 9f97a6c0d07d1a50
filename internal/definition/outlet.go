package definition

import (
	"fmt"
	"regexp"
	"slices"
	"strings"
	"time"

	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/shape"
)

// Outlet is one consumer of a journal.
type Outlet struct {
	Source      string   `json:"source" minLength:"1"`
	Destination string   `json:"destination,omitempty" doc:"Where the events go; without it consumers come and read (pull)"`
	Tables      []string `json:"tables,omitempty" doc:"Patterns of the tables whose events go out; all without it"`
	Operations  []string `json:"operations,omitempty" doc:"Operations that go out; all without it" enum:"existing,insert,update,delete,truncate,schema,loaded,void,message"`
	From        string   `json:"from,omitempty" doc:"Where a new outlet starts: beginning, now, an offset, time:2026-11-23T09:00:00Z, or mark:NAME" default:"beginning" maxLength:"80"`
	Changes     string   `json:"changes,omitempty" enum:"each,combined,inserts" default:"each" doc:"combined: of the changes of a row that lie in one batch, or between a reader's committed offset and now, only what they come to; inserts: only rows that are new"`

	Format       encode.Format `json:"format,omitempty" enum:"cloudevents,cloudevents-binary,data,row,avro,parquet" default:"cloudevents" doc:"cloudevents: structured JSON; cloudevents-binary: attributes as headers; data: the data alone; row: the row alone, flat; avro: the row in Avro; parquet: the row in Parquet files"`
	Columns      string        `json:"columns,omitempty" enum:"all,changed" default:"all" doc:"changed: of an update only the key and what changed"`
	Nulls        string        `json:"nulls,omitempty" enum:"keep,omit" default:"keep" doc:"omit: columns that are null are left out"`
	Metadata     []string      `json:"metadata,omitempty" doc:"With data and cloudevents: which of database, changed, transaction and log go out, all without it. With row, avro and parquet: columns that are put after the row's own, operation and offset without it, with row and several tables in one place table too" enum:"id,offset,operation,table,source,database,committed_at,transaction,position,changed,log,none"`
	Updates      string        `json:"updates,omitempty" enum:"one,pair" default:"one" doc:"pair: an update goes out as two events, the old row and the new one, tied by their id"`
	Deletes      string        `json:"deletes,omitempty" enum:"event,marker,both" default:"event" doc:"marker: a delete goes out as its key without a value, for consumers that keep the newest value of each key; both: the event, then the marker"`
	Transactions bool          `json:"transactions,omitempty" doc:"After a transaction's last event comes one that closes it, with its counts by table"`
	Integers     string        `json:"integers,omitempty" enum:"number,text" default:"number" doc:"text: integers of 64 bits as JSON strings, for readers that round above 2^53"`
	Avro         *Avro         `json:"avro,omitempty"`

	Topic       string  `json:"topic,omitempty" maxLength:"300" doc:"Topic, subject or stream, built from fields in braces, such as {source}.{schema}.{table}" `
	SchemaTopic string  `json:"schema_topic,omitempty" maxLength:"300" doc:"Where schema events go, if not with the others"`
	Key         string  `json:"key,omitempty" maxLength:"300" doc:"The message's key, {key} without it: the row's key"`
	Partition   string  `json:"partition,omitempty" maxLength:"300" doc:"Messages with the same text go to the same partition: the key without it; {table} or {transaction} keep those together"`
	Outbox      *Outbox `json:"outbox,omitempty" doc:"A table whose rows are events already"`

	Batch    *Batch   `json:"batch,omitempty"`
	Retry    *Retry   `json:"retry,omitempty"`
	Refused  *Refused `json:"refused,omitempty" doc:"What becomes of events that the destination refuses"`
	HoldSize int64    `json:"hold_journal_bytes,omitempty" minimum:"0" doc:"Retention keeps what this outlet has not delivered, until the journal is this large; 0: it lets go, and says which offsets were lost"`

	File        *FileOutlet  `json:"file,omitempty"`
	Kafka       *KafkaOutlet `json:"kafka,omitempty"`
	Redis       *RedisOutlet `json:"redis,omitempty"`
	HTTP        *HTTPOutlet  `json:"http,omitempty"`
	Description string       `json:"description,omitempty" maxLength:"500"`
}

// Avro is how Avro messages say which schema they follow.
type Avro struct {
	Framing  string `json:"framing,omitempty" enum:"single-object,registry" default:"single-object" doc:"single-object: by the schema's Avro fingerprint, GET /v1/avro-schemas/FINGERPRINT; registry: by the number that a schema registry gave it"`
	Registry string `json:"registry,omitempty" doc:"The registry's address, such as http://127.0.0.1:8081"`
	TLS      *TLS   `json:"tls,omitempty" doc:"How an https registry is checked; the system's own certificates are trusted without it"`
}

// Outbox is a table whose rows are events: each insert goes out as the row's
// own message.
type Outbox struct {
	Table   string `json:"table" minLength:"1" doc:"Such as public.notices"`
	ID      string `json:"id" minLength:"1" doc:"Column with the event's own id"`
	Kind    string `json:"kind" minLength:"1" doc:"Column with the event's type"`
	Body    string `json:"body" minLength:"1" doc:"Column with what is sent"`
	Subject string `json:"subject,omitempty" doc:"Column with what the event is about; it is the message's key"`
	Time    string `json:"time,omitempty" doc:"Column with when it happened; the commit's time without it"`
	Topic   string `json:"topic,omitempty" maxLength:"300" doc:"Where it goes: a template that may name {kind}"`
}

// Batch says how many events go out at once.
type Batch struct {
	Events int    `json:"events,omitempty" minimum:"1" maximum:"100000" doc:"At most so many in one batch"`
	Bytes  int64  `json:"bytes,omitempty" minimum:"1024" maximum:"67108864" doc:"A batch that reaches this size goes out"`
	Every  string `json:"every,omitempty" doc:"Events wait for others up to this long, such as 500ms or 15m; they go out at once without it"`
}

// Retry says how a destination that fails is tried again.
type Retry struct {
	FirstWait   string `json:"first_wait,omitempty" doc:"Default 200ms; each wait is twice the one before"`
	LongestWait string `json:"longest_wait,omitempty" doc:"Default 30s"`
	Attempts    int    `json:"attempts,omitempty" minimum:"0" maximum:"10000" doc:"An event that failed so often becomes a dead letter; 0: it is tried until it goes"`
}

// Refused says what becomes of events that the destination refuses.
type Refused struct {
	Later          string `json:"later,omitempty" enum:"wait,pass" default:"wait" doc:"wait: later events of the same key wait behind a dead letter; pass: they go out"`
	MaxDeadLetters int    `json:"max_dead_letters,omitempty" minimum:"1" maximum:"1000000" default:"10000" doc:"With so many dead letters and events behind them the outlet stops and holds"`
}

// FileOutlet is how an outlet writes files.
type FileOutlet struct {
	Name         string `json:"name,omitempty" maxLength:"300" doc:"Names of files, built from {outlet}, {run}, {first}, {table}, {date} and {hour}; {outlet}.{run}.{first} without it"`
	Compression  string `json:"compression,omitempty" enum:"none,gzip,zstd,snappy" doc:"ndjson: none, gzip or zstd; avro and parquet: none, snappy or zstd"`
	RotateBytes  int64  `json:"rotate_bytes,omitempty" minimum:"1024" doc:"A file that reaches this size is closed and the next one begun; default 64 MiB"`
	RotateEvents int64  `json:"rotate_events,omitempty" minimum:"1" doc:"A file with so many events is closed; no such bound without it"`
	RotateEvery  string `json:"rotate_every,omitempty" doc:"A file that is this old is closed: 90s, 15m, 24h; default 1h, and 1m for parquet and for object storage"`
}

// KafkaOutlet is how an outlet writes to a broker of the Kafka protocol.
type KafkaOutlet struct {
	Compression string `json:"compression,omitempty" enum:"none,gzip,snappy,lz4,zstd" default:"none"`
	Acks        string `json:"acks,omitempty" enum:"all,leader" default:"all" doc:"leader: a message counts once one broker has it, which may lose it"`
	ExactlyOnce bool   `json:"exactly_once,omitempty" doc:"Each batch is a transaction with the outlet's offset in it: a reader of committed messages sees no repeat"`
	OffsetTopic string `json:"offset_topic,omitempty" doc:"With exactly_once: the topic that holds the outlet's offset; default rillmark.offsets. Outlets may share it: one that starts waits until the others' open transactions have ended"`
}

// RedisOutlet is how an outlet writes streams.
type RedisOutlet struct {
	Keep int64 `json:"keep,omitempty" minimum:"0" doc:"About so many entries are kept in each stream; all without it"`
}

// HTTPOutlet is how an outlet posts.
type HTTPOutlet struct {
	InFlight int `json:"in_flight,omitempty" minimum:"1" maximum:"64" default:"4" doc:"Requests at the same time; those of one key follow each other"`
	Events   int `json:"events,omitempty" minimum:"1" maximum:"10000" default:"1" doc:"Events in one request: more than one is posted as a list"`
}

// Formats of lists of events.
var metadataOfData = []string{"database", "changed", "transaction", "log", "none"}

var mark = regexp.MustCompile(`^mark:[a-z][a-z0-9-]{0,39}$`)

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
		return &Invalid{at, fmt.Sprintf("%q is no time: write time:2026-11-23T09:00:00Z", s)}
	}
	return &Invalid{at, fmt.Sprintf("%q is no place in a journal: write beginning, now, an offset, time:2026-11-23T09:00:00Z or mark:NAME", s)}
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
		{"columns", "all", &o.Columns, []string{"all", "changed"}},
		{"nulls", "keep", &o.Nulls, []string{"keep", "omit"}},
		{"updates", "one", &o.Updates, []string{"one", "pair"}},
		{"deletes", "event", &o.Deletes, []string{"event", "marker", "both"}},
		{"integers", "number", &o.Integers, []string{"number", "text"}},
	} {
		if *field.value == "" {
			*field.value = field.def
		}
		if !slices.Contains(field.choices, *field.value) {
			return &Invalid{field.at, fmt.Sprintf("unknown %s %q: there are %s", field.at, *field.value, strings.Join(field.choices, ", "))}
		}
	}
	if o.From == "" {
		o.From = "beginning"
	}
	if err := CheckPlace("from", o.From); err != nil {
		return err
	}
	if _, err := o.Filter(); err != nil {
		return err
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
		for at, there := range map[string]bool{"file": o.File != nil, "kafka": o.Kafka != nil, "redis": o.Redis != nil, "http": o.HTTP != nil,
			"topic": o.Topic != "", "schema_topic": o.SchemaTopic != "", "partition": o.Partition != "", "batch": o.Batch != nil} {
			if there {
				return &Invalid{at, at + " applies only to outlets with a destination; this one has none: its consumers read it"}
			}
		}
		if o.Format != encode.FormatCloudEvents && o.Format != encode.FormatData && o.Format != encode.FormatRow {
			return &Invalid{"format", fmt.Sprintf("an outlet that is read over HTTP has the format cloudevents, data or row, not %s", o.Format)}
		}
	}
	return nil
}

func (o *Outlet) validateShape() error {
	for _, template := range []struct{ at, text string }{{"topic", o.Topic}, {"schema_topic", o.SchemaTopic}, {"key", o.Key}, {"partition", o.Partition}} {
		if _, err := shape.ParseTemplate(template.text); err != nil {
			return &Invalid{template.at, err.Error()}
		}
	}
	flat := o.Format == encode.FormatRow || o.Format == encode.FormatAvro || o.Format == encode.FormatParquet
	for i, m := range o.Metadata {
		at := fmt.Sprintf("metadata[%d]", i)
		if flat && !encode.IsMetadata(m) && m != "none" {
			return &Invalid{at, fmt.Sprintf("%q is no metadata of format %s: there are %s and none", m, o.Format, strings.Join(encode.MetadataNames(), ", "))}
		}
		if !flat && !slices.Contains(metadataOfData, m) {
			return &Invalid{at, fmt.Sprintf("%q is no metadata of format %s: there are %s", m, o.Format, strings.Join(metadataOfData, ", "))}
		}
	}
	if flat && o.Updates == "pair" && !slices.Contains(o.Metadata, "operation") && len(o.Metadata) > 0 {
		return &Invalid{"updates", "old and new row could not be told apart: put operation into metadata"}
	}
	if o.Avro != nil {
		if o.Format != encode.FormatAvro {
			return &Invalid{"avro", "goes with format avro"}
		}
		if o.Avro.Framing == "registry" && o.Avro.Registry == "" {
			return &Invalid{"avro.registry", "with the framing registry the registry's address is needed"}
		}
		if o.Avro.Registry != "" {
			if err := absolute("avro.registry", o.Avro.Registry); err != nil {
				return err
			}
			if err := o.Avro.TLS.validate("avro.tls"); err != nil {
				return err
			}
		}
	}
	if r := o.Outbox; r != nil {
		if _, err := shape.ParsePattern(r.Table); err != nil {
			return &Invalid{"outbox.table", err.Error()}
		}
		if _, err := shape.ParseTemplate(r.Topic, "kind"); err != nil {
			return &Invalid{"outbox.topic", err.Error()}
		}
		if o.Format == encode.FormatAvro || o.Format == encode.FormatParquet {
			return &Invalid{"outbox", "rows that are events already go with the formats cloudevents, cloudevents-binary, data and row"}
		}
	}
	if o.Changes == "combined" && (o.Transactions || o.Updates == "pair") {
		return &Invalid{"changes", "combined changes have no single changes or closing events: leave out transactions and updates: pair"}
	}
	return nil
}

// CheckFiles looks whether the files that the definition names can be read here.
func (o *Outlet) CheckFiles() error {
	if o.Avro == nil {
		return nil
	}
	return o.Avro.TLS.checkFiles("avro.tls")
}

// ValidateFor checks an outlet together with the destination it names.
func (o *Outlet) ValidateFor(d *Destination) error {
	for at, there := range map[string]bool{KindFile: o.File != nil, KindKafka: o.Kafka != nil, KindRedis: o.Redis != nil, KindHTTP: o.HTTP != nil} {
		if there && at != d.Kind {
			return &Invalid{at, fmt.Sprintf("goes with a destination of kind %s; %s is one of kind %s", at, o.Destination, d.Kind)}
		}
	}
	if o.Format == encode.FormatParquet && d.Kind != KindFile {
		return &Invalid{"format", fmt.Sprintf("parquet is a format of files; %s is of kind %s", o.Destination, d.Kind)}
	}
	if o.Format == encode.FormatCloudEventsBinary && d.Kind == KindFile {
		return &Invalid{"format", "cloudevents-binary has attributes in headers, and files have none: use cloudevents or row"}
	}
	named := o.Topic != "" || o.SchemaTopic != ""
	switch d.Kind {
	case KindKafka, KindNATS, KindRedis:
		if o.Topic == "" {
			o.Topic = "{source}.{schema|log}.{table|messages}"
		}
		for at, text := range map[string]string{"topic": o.Topic, "schema_topic": o.SchemaTopic} {
			if text == "" {
				continue
			}
			if err := checkTopic(d.Kind, text); err != nil {
				return &Invalid{at, err.Error()}
			}
		}
	default:
		if named {
			return &Invalid{"topic", fmt.Sprintf("a destination of kind %s has no topics", d.Kind)}
		}
	}
	if o.Deletes != "event" && d.Kind != KindKafka {
		return &Invalid{"deletes", fmt.Sprintf("markers are messages with a key and no value, of kind kafka; %s is of kind %s", o.Destination, d.Kind)}
	}
	switch d.Kind {
	case KindFile:
		return o.validateFile(d)
	case KindHTTP:
		return o.validateHTTP()
	case KindKafka:
		if o.Kafka == nil {
			o.Kafka = new(KafkaOutlet)
		}
		if o.Kafka.ExactlyOnce && o.Kafka.Acks == "leader" {
			return &Invalid{"kafka.acks", "exactly once needs all brokers to acknowledge"}
		}
		if o.Kafka.OffsetTopic == "" {
			o.Kafka.OffsetTopic = "rillmark.offsets"
		}
	}
	return nil
}

func (o *Outlet) validateHTTP() error {
	if o.HTTP == nil {
		o.HTTP = new(HTTPOutlet)
	}
	if o.HTTP.InFlight == 0 {
		o.HTTP.InFlight = 4
	}
	if o.HTTP.Events == 0 {
		o.HTTP.Events = 1
	}
	if o.HTTP.Events > 1 && (o.Format == encode.FormatCloudEventsBinary || o.Format == encode.FormatAvro) {
		return &Invalid{"http.events", fmt.Sprintf("format %s has no lists: post one event a request, or use cloudevents, data or row", o.Format)}
	}
	return nil
}

func (o *Outlet) validateFile(d *Destination) error {
	if o.File == nil {
		o.File = new(FileOutlet)
	}
	f := o.File
	if o.Format == encode.FormatAvro && o.Avro != nil {
		return &Invalid{"avro", "an object container file holds its schema itself: leave the section out"}
	}
	if f.Name == "" {
		f.Name = "{outlet}.{run}.{first}"
		if o.Format == encode.FormatParquet || o.Format == encode.FormatAvro {
			f.Name = "{table}/{outlet}.{run}.{first}"
		}
	}
	if f.Compression == "" {
		f.Compression = "none"
		if o.Format == encode.FormatParquet {
			f.Compression = "zstd"
		}
	}
	allowed := []string{"none", "gzip", "zstd"}
	if o.Format == encode.FormatParquet || o.Format == encode.FormatAvro {
		allowed = []string{"none", "snappy", "zstd"}
	}
	if !slices.Contains(allowed, f.Compression) {
		return &Invalid{"file.compression", fmt.Sprintf("%q is no compression of format %s: there are %s", f.Compression, o.Format, strings.Join(allowed, ", "))}
	}
	if err := checkFileName(f.Name); err != nil {
		return &Invalid{"file.name", err.Error()}
	}
	if f.RotateBytes == 0 {
		f.RotateBytes = 64 << 20
	}
	if f.RotateEvery == "" {
		f.RotateEvery = "1h"
		if o.Format == encode.FormatParquet || d.File.Bucket != nil {
			f.RotateEvery = "1m"
		}
	}
	_, err := durationOf("file.rotate_every", f.RotateEvery, time.Second, 7*24*time.Hour)
	return err
}

var fileField = regexp.MustCompile(`\{[^}]*\}`)

func checkFileName(name string) error {
	rest := fileField.ReplaceAllStringFunc(name, func(field string) string {
		switch field {
		case "{outlet}", "{run}", "{first}", "{table}", "{date}", "{hour}":
			return "x"
		}
		return field
	})
	switch {
	case strings.ContainsAny(rest, "{}"):
		return fmt.Errorf("%q names a field that files do not have: there are {outlet}, {run}, {first}, {table}, {date} and {hour}", name)
	case strings.HasPrefix(rest, "/") || strings.Contains("/"+rest+"/", "/../") || strings.Contains(rest, "//") || strings.HasSuffix(rest, "/") || strings.HasPrefix(rest, "."):
		return fmt.Errorf("%q is no name below a directory: no leading slash or dot, no .., no empty part", name)
	case !strings.Contains(name, "{first}") || !strings.Contains(name, "{run}") || !strings.Contains(name, "{outlet}"):
		return fmt.Errorf("%q could name two files alike: it must hold {outlet}, {run} and {first}", name)
	}
	return nil
}

var (
	kafkaTopic  = regexp.MustCompile(`^[a-zA-Z0-9._-]{1,249}$`)
	natsSubject = regexp.MustCompile(`^[^\s.*>]+(\.[^\s.*>]+)*$`)
)

// CheckTopic refuses a name that a kind of destination does not take.
func CheckTopic(kind, name string) error {
	switch kind {
	case KindKafka:
		if !kafkaTopic.MatchString(name) || name == "." || name == ".." {
			return fmt.Errorf("%q is no name of a topic: 1 to 249 letters, digits, dots, hyphens and underscores", name)
		}
	case KindNATS:
		if !natsSubject.MatchString(name) {
			return fmt.Errorf("%q is no subject: parts without spaces, * and >, with dots between them", name)
		}
	case KindRedis:
		if name == "" || len(name) > 512 {
			return fmt.Errorf("%q is no name of a stream: 1 to 512 bytes", name)
		}
	}
	return nil
}

// checkTopic checks the fixed parts of a template: each field stands for a word.
func checkTopic(kind, template string) error {
	return CheckTopic(kind, fileField.ReplaceAllString(template, "x"))
}

// Filter is what the outlet lets through.
func (o *Outlet) Filter() (*shape.Filter, error) {
	f := new(shape.Filter)
	for i, text := range o.Tables {
		p, err := shape.ParsePattern(text)
		if err != nil {
			return nil, &Invalid{fmt.Sprintf("tables[%d]", i), err.Error()}
		}
		f.Tables = append(f.Tables, p)
	}
	for i, text := range o.Operations {
		operation, err := change.ParseOperation(text)
		if err != nil {
			return nil, &Invalid{fmt.Sprintf("operations[%d]", i), err.Error()}
		}
		f.Operations = append(f.Operations, operation)
	}
	if o.Changes == "inserts" {
		if len(o.Operations) > 0 {
			return nil, &Invalid{"changes", "inserts chooses the operations by itself: leave operations out"}
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
		if l.Every, err = durationOf("batch.every", o.Batch.Every, time.Millisecond, 24*time.Hour); err != nil {
			return l, err
		}
	}
	return l, nil
}

// Waits are the first and the longest wait between tries.
func (r *Retry) Waits() (first, longest time.Duration, err error) {
	first, longest = 200*time.Millisecond, 30*time.Second
	if r == nil {
		return first, longest, nil
	}
	if r.FirstWait != "" {
		if first, err = durationOf("retry.first_wait", r.FirstWait, time.Millisecond, time.Hour); err != nil {
			return 0, 0, err
		}
	}
	if r.LongestWait != "" {
		if longest, err = durationOf("retry.longest_wait", r.LongestWait, time.Millisecond, 24*time.Hour); err != nil {
			return 0, 0, err
		}
	}
	return first, max(first, longest), nil
}

// tellsTable says whether a row's table is known without being named in it: only one
// goes out, or each has a place of its own.
func (o *Outlet) tellsTable() bool {
	places := o.Topic
	if o.File != nil {
		places += o.File.Name
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

// Shape is how the outlet's events are put into messages; address is the
// service's public one.
func (o *Outlet) Shape(address string) (encode.Shape, error) {
	s := encode.Shape{Address: address, Format: o.Format, Changed: o.Columns == "changed", OmitNulls: o.Nulls == "omit", Metadata: o.Metadata,
		Pairs: o.Updates == "pair", Deletes: o.Deletes, Transactions: o.Transactions, IntegersAsText: o.Integers == "text"}
	if o.Format == encode.FormatRow && len(o.Metadata) == 0 && !o.tellsTable() {
		s.Metadata = []string{"operation", "offset", "table"}
	}
	var err error
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
