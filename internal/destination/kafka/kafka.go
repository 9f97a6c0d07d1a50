// Package kafka delivers to brokers of the Kafka protocol.
//
// Messages of one partition text go to one partition. A message counts as
// delivered once the broker has acknowledged it. With exactly once, each batch
// is a transaction that also holds the outlet's offset, in a topic of its own:
// after a crash the broker itself says how far delivery was.
package kafka

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"strconv"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"
	"github.com/twmb/franz-go/pkg/sasl/plain"
	"github.com/twmb/franz-go/pkg/sasl/scram"

	"rillmark/internal/change"
	"rillmark/internal/definition"
	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
)

// Destination is a set of brokers.
type Destination struct {
	Definition definition.KafkaDestination // with its secrets opened
	Outlet     definition.KafkaOutlet
	// Topics are the topics that are known beforehand, for the check.
	Topics []string
}

var _ destination.Destination = (*Destination)(nil)

// Wants implements [destination.Destination].
func (d *Destination) Wants() encode.Wants {
	return encode.Wants{Key: true, Order: true, Headers: true, Topic: true}
}

// client connects with more options.
func (d *Destination) client(more ...kgo.Opt) (*kgo.Client, error) {
	options := []kgo.Opt{kgo.SeedBrokers(d.Definition.Brokers...), kgo.ClientID("rillmark"), kgo.DialTimeout(5 * time.Second),
		kgo.RequestTimeoutOverhead(5 * time.Second), kgo.RetryTimeout(15 * time.Second), kgo.MetadataMinAge(250 * time.Millisecond)}
	config, err := destination.TLSConfig(d.Definition.TLS)
	if err != nil {
		return nil, err
	}
	if config != nil {
		options = append(options, kgo.DialTLSConfig(config))
	}
	if login := d.Definition.Login; login != nil {
		switch login.Mechanism {
		case "plain":
			options = append(options, kgo.SASL(plain.Auth{User: login.User, Pass: login.Password}.AsMechanism()))
		case "scram-sha-256":
			options = append(options, kgo.SASL(scram.Auth{User: login.User, Pass: login.Password}.AsSha256Mechanism()))
		default:
			options = append(options, kgo.SASL(scram.Auth{User: login.User, Pass: login.Password}.AsSha512Mechanism()))
		}
	}
	return kgo.NewClient(append(options, more...)...)
}

// Check implements [destination.Destination].
func (d *Destination) Check(ctx context.Context) []change.Check {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	reached := change.Check{Name: "brokers", Verdict: change.Good}
	client, err := d.client(kgo.RetryTimeout(3*time.Second), kgo.RequestRetries(1))
	if err == nil {
		defer client.Close()
		err = client.Ping(ctx)
	}
	if err != nil {
		reached.Verdict, reached.Found, reached.Why = change.Missing, describe(err), "nothing can be delivered"
		reached.Fix = "check the addresses, the section tls and the login; the broker's own log says more"
		return []change.Check{reached}
	}
	admin := kadm.NewClient(client)
	meta, err := admin.Metadata(ctx, d.Topics...)
	if err != nil {
		reached.Verdict, reached.Found = change.Missing, describe(err)
		return []change.Check{reached}
	}
	reached.Found = fmt.Sprintf("%d brokers answer", len(meta.Brokers))
	checks := []change.Check{reached, d.encrypted()}
	for _, topic := range d.Topics {
		checks = append(checks, d.checkTopic(ctx, admin, topic, meta.Topics[topic]))
	}
	return checks
}

func (d *Destination) encrypted() change.Check {
	c := change.Check{Name: "connection", Verdict: change.Good, Found: "encrypted, and the server's certificate is checked"}
	if d.Definition.TLS == nil {
		c.Verdict, c.Found, c.Why, c.Fix = change.Note, "in the clear", "events and login can be read on the way", "add a section tls, unless the network is trusted"
	}
	return c
}

func (d *Destination) checkTopic(ctx context.Context, admin *kadm.Client, topic string, found kadm.TopicDetail) change.Check {
	c := change.Check{Name: "topic " + topic, Verdict: change.Good}
	switch {
	case found.Err == nil && len(found.Partitions) > 0:
		c.Found = fmt.Sprintf("is there, with %d partitions", len(found.Partitions))
		if most := maxMessage(ctx, admin, topic); most > 0 {
			c.Found += fmt.Sprintf(", takes messages of up to %d bytes", most)
		}
	case errors.Is(found.Err, kerr.UnknownTopicOrPartition) || found.Err == nil:
		if create := d.Definition.Create; create != nil {
			c.Verdict, c.Found = change.Note, fmt.Sprintf("is not there yet and will be created with %d partitions", create.Partitions)
			break
		}
		c.Verdict, c.Found, c.Why = change.Missing, "is not there", "events for it would wait"
		c.Fix = fmt.Sprintf("create the topic %s, or allow it with create_topics", topic)
	default:
		c.Verdict, c.Found = change.Missing, describe(found.Err)
		c.Fix = "give the login the right to write to the topic " + topic
	}
	return c
}

// maxMessage is the largest batch that a topic takes; 0 where the broker does
// not say.
func maxMessage(ctx context.Context, admin *kadm.Client, topic string) int {
	found, err := admin.DescribeTopicConfigs(ctx, topic)
	if err != nil {
		return 0
	}
	for _, one := range found {
		for _, config := range one.Configs {
			if config.Key == "max.message.bytes" && config.Value != nil {
				n, _ := strconv.Atoi(*config.Value)
				return n
			}
		}
	}
	return 0
}

// describe is an error in a sentence that says what to look at.
func describe(err error) string {
	switch {
	case errors.Is(err, kerr.SaslAuthenticationFailed):
		return "the broker refuses user or password"
	case errors.Is(err, kerr.TopicAuthorizationFailed):
		return "the login may not write to the topic"
	}
	return err.Error()
}

// fault turns a broker's error into one that a person can act on.
func fault(err error) error {
	var ready *engine.Fault
	switch {
	case err == nil, errors.As(err, &ready), errors.Is(err, context.Canceled):
		return err
	case errors.Is(err, kerr.SaslAuthenticationFailed), errors.Is(err, kerr.UnsupportedSaslMechanism):
		return &engine.Fault{Code: "login-refused", Message: "the broker refuses user or password", Cause: err, Fix: "`rillmark destination edit` with the right ones"}
	case errors.Is(err, kerr.TopicAuthorizationFailed), errors.Is(err, kerr.ClusterAuthorizationFailed), errors.Is(err, kerr.TransactionalIDAuthorizationFailed):
		return &engine.Fault{Code: "not-allowed", Message: "the broker does not allow the login to do this", Cause: err, Fix: "give the login the right to write (and, with exactly once, to use transactions)"}
	}
	return &engine.Fault{Code: "unreachable", Message: "the broker does not take events", Cause: err}
}

// Open implements [destination.Destination].
func (d *Destination) Open(ctx context.Context, o destination.Outlet) (destination.Writer, error) {
	w := &writer{d: d, outlet: o, at: o.Committed, topics: make(map[string]*topic)}
	options := []kgo.Opt{kgo.RecordPartitioner(kgo.BasicConsistentPartitioner(func(string) func(*kgo.Record, int) int {
		return func(r *kgo.Record, n int) int { return int(uint32(r.Partition) % uint32(n)) }
	})), kgo.ProducerLinger(0), kgo.MaxBufferedRecords(1 << 30), kgo.RecordRetries(20),
		kgo.ProducerBatchMaxBytes(1_000_000), kgo.ProducerBatchCompression(codec(d.Outlet.Compression))}
	if d.Outlet.Acks == "leader" {
		options = append(options, kgo.RequiredAcks(kgo.LeaderAck()), kgo.DisableIdempotentWrite())
	}
	if d.Outlet.ExactlyOnce {
		if err := w.resume(ctx); err != nil {
			return nil, fault(err)
		}
		options = append(options, kgo.TransactionalID(w.name()), kgo.TransactionTimeout(time.Minute))
	}
	client, err := d.client(options...)
	if err != nil {
		return nil, fault(err)
	}
	w.client, w.admin = client, kadm.NewClient(client)
	if err := client.Ping(ctx); err != nil {
		client.Close()
		return nil, fault(err)
	}
	return w, nil
}

func codec(name string) kgo.CompressionCodec {
	switch name {
	case "gzip":
		return kgo.GzipCompression()
	case "snappy":
		return kgo.SnappyCompression()
	case "lz4":
		return kgo.Lz4Compression()
	case "zstd":
		return kgo.ZstdCompression()
	}
	return kgo.NoCompression()
}

type writer struct {
	d      *Destination
	outlet destination.Outlet
	client *kgo.Client
	admin  *kadm.Client
	at     int64 // the newest offset that is delivered
	topics map[string]*topic
	slab   []kgo.Record
}

type topic struct{ most int }

// maxTopics bounds what is remembered of topics that templates name.
const maxTopics = 10_000

// topic makes sure that a topic is there.
func (w *writer) topic(ctx context.Context, name string) (*topic, error) {
	if t := w.topics[name]; t != nil {
		return t, nil
	}
	if err := definition.CheckTopic(definition.KindKafka, name); err != nil {
		return nil, err
	}
	found, err := w.admin.ListTopics(ctx, name)
	if err != nil {
		return nil, fault(err)
	}
	one := found[name]
	switch {
	case one.Err == nil && len(one.Partitions) > 0:
	case one.Err != nil && !errors.Is(one.Err, kerr.UnknownTopicOrPartition):
		return nil, fault(one.Err)
	case w.d.Definition.Create == nil:
		return nil, &engine.Fault{Code: "topic-missing", Message: "the topic " + name + " is not there",
			Fix: "create the topic " + name + " with as many partitions as it shall have readers, or allow its creation with create_topics in the destination; delivery goes on by itself"}
	default:
		create := w.d.Definition.Create
		made, err := w.admin.CreateTopic(ctx, int32(create.Partitions), int16(create.Replication), nil, name)
		if err == nil {
			err = made.Err
		}
		if err != nil && !errors.Is(err, kerr.TopicAlreadyExists) {
			return nil, &engine.Fault{Code: "topic-missing", Message: fmt.Sprintf("the topic %s is not there and could not be created", name), Cause: err,
				Fix: fmt.Sprintf("create the topic %s with %d partitions; delivery goes on by itself", name, create.Partitions)}
		}
	}
	if len(w.topics) >= maxTopics {
		clear(w.topics)
	}
	t := &topic{most: maxMessage(ctx, w.admin, name)}
	w.topics[name] = t
	return t, nil
}

// Delivered implements [destination.Writer].
func (w *writer) Delivered() int64 { return w.at }

// overhead is what a batch of one record has besides its parts, at most (Kafka
// protocol, RecordBatch: 61 bytes, and some for each record and header).
const overhead = 100

// Send implements [destination.Writer].
func (w *writer) Send(ctx context.Context, batch *encode.Batch) ([]destination.Refusal, error) {
	behind := destination.NewBehind(w.outlet.Wait)
	var refused []destination.Refusal
	var indexes []int
	n := len(batch.Messages)
	if cap(w.slab) < n+1 {
		w.slab = make([]kgo.Record, n+1)
	}
	records := make([]*kgo.Record, 0, n+1)
	for i := range batch.Messages {
		m := &batch.Messages[i]
		if behind.Waits(m) {
			refused = append(refused, destination.Refusal{Index: i})
			continue
		}
		t, err := w.topic(ctx, string(m.Topic))
		var known *engine.Fault
		if errors.As(err, &known) {
			return nil, err
		}
		if err == nil && t.most > 0 {
			if size := m.Size() + overhead + 12*len(m.Headers); size > t.most {
				err = fmt.Errorf("the event has %d bytes, and the topic %s takes %d: raise its max.message.bytes, or leave columns out", size, m.Topic, t.most)
			}
		}
		if err != nil {
			behind.Refused(m)
			refused = append(refused, destination.Refusal{Index: i, Err: err})
			continue
		}
		r := &w.slab[len(records)]
		*r = kgo.Record{Topic: string(m.Topic), Key: m.Key, Value: m.Body, Timestamp: m.Committed, Partition: hash(m.Partition)}
		if m.Marker {
			r.Value = nil
		}
		for _, h := range m.Headers {
			name := h.Name
			if h.Attribute {
				name = "ce_" + name
			}
			r.Headers = append(r.Headers, kgo.RecordHeader{Key: name, Value: h.Value})
		}
		if m.ContentType != "" && !m.Marker {
			r.Headers = append(r.Headers, kgo.RecordHeader{Key: "content-type", Value: []byte(m.ContentType)})
		}
		records = append(records, r)
		indexes = append(indexes, i)
	}
	if w.d.Outlet.ExactlyOnce {
		if len(refused) > 0 {
			if err := w.outlet.Aside(ctx, batch, refused); err != nil {
				return nil, err
			}
		}
		if err := w.transaction(ctx, records, batch.Last); err != nil {
			return nil, fault(err)
		}
		w.at = batch.Last
		return refused, nil
	}
	more, err := w.produce(ctx, records, indexes)
	if err != nil {
		return nil, fault(err)
	}
	w.at = batch.Last
	refused = append(refused, more...)
	slices.SortFunc(refused, func(a, b destination.Refusal) int { return a.Index - b.Index })
	return refused, nil
}

// patience is how long a batch may take.
const patience = 30 * time.Second

// produce sends and waits. Records that the broker calls bad are refused.
func (w *writer) produce(ctx context.Context, records []*kgo.Record, indexes []int) ([]destination.Refusal, error) {
	if len(records) == 0 {
		return nil, nil
	}
	// The client's own timeout counts from a record's time, which is its commit's.
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	// A record that may be on its way is not given up by the client for its
	// context alone: a stop would wait for a broker that is away.
	defer context.AfterFunc(ctx, w.client.Close)()
	var refused []destination.Refusal
	for i, result := range w.client.ProduceSync(ctx, records...) {
		switch {
		case result.Err == nil:
		case errors.Is(result.Err, kerr.MessageTooLarge), errors.Is(result.Err, kerr.InvalidRecord), errors.Is(result.Err, kerr.InvalidTimestamp), errors.Is(result.Err, kerr.CorruptMessage):
			if indexes == nil {
				return nil, result.Err
			}
			refused = append(refused, destination.Refusal{Index: indexes[i], Err: result.Err})
		case errors.Is(result.Err, kerr.UnknownTopicOrPartition):
			w.topics = make(map[string]*topic) // somebody has removed it: look again
			return nil, result.Err
		default:
			return nil, result.Err
		}
	}
	return refused, nil
}

// Flush implements [destination.Writer].
func (w *writer) Flush(context.Context, bool) (int64, error) { return w.at, nil }

// Close implements [destination.Writer].
func (w *writer) Close() error {
	w.client.Close()
	return nil
}

// usual spreads keys over partitions as ordinary producers do (murmur2), so that
// messages lie beside those that others send with the same key.
var usual = kgo.StickyKeyPartitioner(nil).ForTopic("")

// hash is the key's place among as many partitions as there can be: modulo the
// number of those that there are, it is where ordinary producers put the key.
func hash(text []byte) int32 {
	return int32(usual.Partition(&kgo.Record{Key: text}, math.MaxInt32))
}
