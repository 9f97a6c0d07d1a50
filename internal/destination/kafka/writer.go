package kafka

import (
	"context"
	"errors"
	"fmt"
	"math"
	"slices"
	"sync"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"

	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
)

type writer struct {
	d      *Destination
	outlet destination.Outlet
	client *kgo.Client
	admin  *kadm.Client
	at     int64 // the newest offset that is delivered
	topics map[string]*topic
	newest *topic // of the message before
	// What records are made of; the client has done with it when a batch is sent.
	records []kgo.Record
	headers []kgo.RecordHeader
	names   map[string]string             // of attributes, as headers
	typed   map[string][]kgo.RecordHeader // what says a content type
	hashed  kgo.Record
}

type topic struct {
	name string
	most int // bytes that a batch of records may have; 0 where it is not known
}

// maxTopics bounds what is remembered of topics that templates name.
const maxTopics = 10_000

// topic makes sure that a message's topic is there.
func (w *writer) topic(ctx context.Context, m *encode.Message) (*topic, error) {
	if w.newest != nil && string(m.Topic) == w.newest.name {
		return w.newest, nil
	}
	if w.newest = w.topics[string(m.Topic)]; w.newest != nil {
		return w.newest, nil
	}
	name := string(m.Topic)
	if err := checkTopicName(name); err != nil {
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
	case w.d.settings.Create == nil:
		return nil, &engine.Fault{Code: "topic-missing", Message: "the topic " + name + " is not there",
			Fix: "create the topic " + name + " with as many partitions as it shall have readers, or allow its creation with create_topics in the destination; delivery goes on by itself"}
	default:
		create := w.d.settings.Create
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
	w.newest = &topic{name: name, most: maxMessage(ctx, w.admin, name)}
	w.topics[name] = w.newest
	return w.newest, nil
}

// Delivered implements [destination.Writer].
func (w *writer) Delivered() int64 { return w.at }

// overhead is what a batch of one record has besides its parts, at most (Kafka
// protocol, RecordBatch: 61 bytes, and some for each record and header).
const overhead = 100

// Send implements [destination.Writer].
func (w *writer) Send(ctx context.Context, batch *encode.Batch) ([]destination.Refusal, error) {
	behind := destination.NewBehind(w.outlet.Wait)
	refused, going, err := w.sift(ctx, batch.Messages, behind)
	if err != nil {
		return nil, err
	}
	var more []destination.Refusal
	if w.d.options.ExactlyOnce {
		if len(refused) > 0 {
			if err := w.outlet.KeepRefused(ctx, batch, refused); err != nil {
				return nil, err
			}
		}
		more, err = w.exactly(ctx, batch, going, batch.Last, behind)
	} else {
		more, err = destination.SplitOnError(batch.Messages, going, behind, func(part []int) error { return w.produce(ctx, batch.Messages, part, nil) }, blame)
	}
	if err != nil {
		return nil, fault(err)
	}
	w.at = batch.Last
	refused = append(refused, more...)
	slices.SortFunc(refused, func(a, b destination.Refusal) int { return a.Index - b.Index })
	return refused, nil
}

// sift takes out what can be seen to be bad before it is sent.
func (w *writer) sift(ctx context.Context, messages []encode.Message, behind *destination.Behind) (refused []destination.Refusal, going []int, err error) {
	going = make([]int, 0, len(messages))
	for i := range messages {
		m := &messages[i]
		if behind.Waits(m) {
			refused = append(refused, destination.Refusal{Index: i})
			continue
		}
		t, err := w.topic(ctx, m)
		var known *engine.Fault
		if errors.As(err, &known) {
			return nil, nil, err
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
		going = append(going, i)
	}
	return refused, going, nil
}

// blame says what a broker's error means for the records that were sent together.
// It refuses a whole batch for one record, and does not say which.
func blame(err error) destination.Blame {
	for _, one := range []error{kerr.MessageTooLarge, kerr.RecordListTooLarge, kerr.InvalidRecord, kerr.InvalidTimestamp, kerr.CorruptMessage} {
		if errors.Is(err, one) {
			return destination.BlameOne
		}
	}
	return destination.BlameNone
}

// patience is how long a batch may take.
const patience = 30 * time.Second

// produce sends messages, and one record more where there is one, and waits until
// the broker has answered for all of them.
func (w *writer) produce(ctx context.Context, messages []encode.Message, part []int, more *kgo.Record) error {
	// The client's own timeout counts from a record's time, which is its commit's.
	ctx, cancel := context.WithTimeout(ctx, patience)
	defer cancel()
	// A record that may be on its way is not given up by the client for its
	// context alone: a stop would wait for a broker that is away.
	defer context.AfterFunc(ctx, w.client.Close)()
	var answers sync.WaitGroup
	var bad, failed error
	promise := func(_ *kgo.Record, err error) { // the client calls one after the other
		switch {
		case err == nil:
		case blame(err) == destination.BlameNone:
			failed = err
		case bad == nil:
			bad = err
		}
		answers.Done()
	}
	if len(w.records) < len(part) {
		w.records = make([]kgo.Record, max(len(part), 2*len(w.records)))
	}
	w.headers = w.headers[:0]
	answers.Add(len(part))
	for n, i := range part {
		w.fill(&w.records[n], &messages[i])
		w.client.Produce(ctx, &w.records[n], promise)
	}
	if more != nil {
		answers.Add(1)
		w.client.Produce(ctx, more, promise)
	}
	answers.Wait()
	if errors.Is(failed, kerr.UnknownTopicOrPartition) {
		w.newest = nil // somebody has removed it: look again
		clear(w.topics)
	}
	if failed != nil {
		return failed
	}
	return bad
}

// fill makes a message a record.
func (w *writer) fill(r *kgo.Record, m *encode.Message) {
	t := w.newest
	if t == nil || string(m.Topic) != t.name {
		if t = w.topics[string(m.Topic)]; t == nil {
			t = &topic{name: string(m.Topic)} // of more than are remembered
		}
		w.newest = t
	}
	*r = kgo.Record{Topic: t.name, Key: m.Key, Value: m.Body, Timestamp: m.Committed, Partition: w.hash(m.Partition)}
	kind := m.ContentType
	if m.Marker {
		r.Value, kind = nil, ""
	}
	var typed []kgo.RecordHeader
	if kind != "" {
		if typed = w.typed[kind]; typed == nil {
			typed = []kgo.RecordHeader{{Key: "content-type", Value: []byte(kind)}}
			w.typed[kind] = typed
		}
	}
	r.Headers = typed
	if len(m.Headers) == 0 {
		return
	}
	from := len(w.headers)
	for _, h := range m.Headers {
		name := h.Name
		if h.Attribute {
			if name = w.names[h.Name]; name == "" {
				name = "ce_" + h.Name
				w.names[h.Name] = name
			}
		}
		w.headers = append(w.headers, kgo.RecordHeader{Key: name, Value: h.Value})
	}
	w.headers = append(w.headers, typed...)
	r.Headers = w.headers[from:len(w.headers):len(w.headers)]
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
func (w *writer) hash(text []byte) int32 {
	w.hashed.Key = text
	return int32(usual.Partition(&w.hashed, math.MaxInt32))
}
