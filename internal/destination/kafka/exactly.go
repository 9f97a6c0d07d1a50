package kafka

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"time"

	"github.com/twmb/franz-go/pkg/kadm"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kgo"

	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/engine"
)

// mark is what a transaction says of the outlet: how far it is.
type mark struct {
	Outlet string `json:"outlet"`
	Run    int    `json:"run"`
	Offset int64  `json:"offset"`
}

// name is the transactional id, and the key of the outlet's marks: of two
// processes that deliver for one outlet the broker lets the later one go on.
func (w *writer) name() string { return fmt.Sprintf("rillmark-%s-%d", w.outlet.Name, w.outlet.ID) }

// exactly sends messages, which part lists by their indexes, and the outlet's
// offset in one transaction. Where the broker refuses one of them, it sends
// halves, each with the offset that it reaches, until the refused event is alone:
// that is a dead letter before the offset passes it.
func (w *writer) exactly(ctx context.Context, batch *encode.Batch, part []int, last int64, behind *destination.Behind) ([]destination.Refusal, error) {
	messages := batch.Messages
	var refused []destination.Refusal
	going := make([]int, 0, len(part))
	for _, i := range part {
		if behind.Waits(&messages[i]) {
			refused = append(refused, destination.Refusal{Index: i})
		} else {
			going = append(going, i)
		}
	}
	if len(refused) > 0 {
		if err := w.outlet.KeepRefused(ctx, batch, refused); err != nil {
			return nil, err
		}
	}
	err := w.transaction(ctx, messages, going, last)
	if err == nil || len(going) == 0 || blame(err) == destination.BlameNone {
		return refused, err
	}
	cut := len(going) / 2
	for cut > 0 && messages[going[cut-1]].Offset == messages[going[cut]].Offset {
		cut-- // an event's messages stay together
	}
	if cut == 0 && messages[going[0]].Offset != messages[going[len(going)-1]].Offset {
		for cut = 1; messages[going[cut]].Offset == messages[going[0]].Offset; {
			cut++
		}
	}
	if cut == 0 {
		var bad []destination.Refusal
		for _, i := range going {
			bad = append(bad, destination.Refusal{Index: i, Err: err})
			behind.Refused(&messages[i])
		}
		if err := w.outlet.KeepRefused(ctx, batch, bad); err != nil {
			return nil, err
		}
		return append(refused, bad...), w.transaction(ctx, messages, nil, last)
	}
	reaches := last
	for _, i := range going[cut:] {
		reaches = min(reaches, messages[i].Offset-1)
	}
	for _, half := range []struct {
		part []int
		last int64
	}{{going[:cut], reaches}, {going[cut:], last}} {
		more, err := w.exactly(ctx, batch, half.part, half.last, behind)
		if err != nil {
			return nil, err
		}
		refused = append(refused, more...)
	}
	return refused, nil
}

// transaction sends messages and the outlet's offset, all or nothing.
func (w *writer) transaction(ctx context.Context, messages []encode.Message, part []int, last int64) error {
	if err := w.client.BeginTransaction(); err != nil {
		return err
	}
	value, err := json.Marshal(mark{w.outlet.Name, w.outlet.Run, last})
	if err != nil {
		return err
	}
	err = w.produce(ctx, messages, part, &kgo.Record{Topic: w.d.options.OffsetTopic, Key: []byte(w.name()), Value: value})
	if err == nil {
		err = w.client.EndTransaction(ctx, kgo.TryCommit)
	} else {
		last, cancel := context.WithTimeout(context.WithoutCancel(ctx), 3*time.Second)
		defer cancel()
		w.client.EndTransaction(last, kgo.TryAbort) //nolint:errcheck // the first error is the one to tell
	}
	return err
}

// resume reads how far committed transactions are. A new transactional producer
// of the same id first ends what an earlier one left open.
func (w *writer) resume(ctx context.Context) error {
	first, err := w.d.client(kgo.TransactionalID(w.name()), kgo.TransactionTimeout(time.Minute))
	if err != nil {
		return err
	}
	_, _, err = first.ProducerID(ctx)
	admin := kadm.NewClient(first)
	if err == nil {
		err = w.offsetTopic(ctx, admin)
	}
	var ends map[int32]int64
	if err == nil {
		ends, err = w.settled(ctx, admin)
	}
	first.Close()
	if err != nil {
		return err
	}
	return w.readMarks(ctx, ends)
}

// settled waits until nothing that lies in the topic of offsets now is of an open
// transaction, and returns its ends. Outlets share that topic, and a reader of
// what is committed sees nothing behind another's open transaction: our newest
// mark may lie there.
func (w *writer) settled(ctx context.Context, admin *kadm.Client) (ends map[int32]int64, err error) {
	topic := w.d.options.OffsetTopic
	written, err := admin.ListEndOffsets(ctx, topic)
	if err == nil {
		err = written.Error()
	}
	if err != nil {
		return nil, err
	}
	ends = make(map[int32]int64)
	written.Each(func(o kadm.ListedOffset) {
		if o.Offset > 0 {
			ends[o.Partition] = o.Offset
		}
	})
	for deadline := time.Now().Add(settleWithin); ; {
		stable, err := admin.ListCommittedOffsets(ctx, topic)
		if err == nil {
			err = stable.Error()
		}
		if err != nil {
			return nil, err
		}
		open := false
		for partition, end := range ends {
			o, _ := stable.Lookup(topic, partition)
			open = open || o.Offset < end
		}
		if !open {
			return ends, nil
		}
		if time.Now().After(deadline) {
			return nil, &engine.Fault{Code: "offsets-open", Message: "another outlet's transaction is open in the topic " + topic + ": how far delivery was cannot be read before it ends",
				Fix: "nothing, for a minute: the broker then ends a transaction that was left open, and delivery goes on by itself. An outlet that should wait for no other needs a topic of its own (kafka.offset_topic)"}
		}
		select {
		case <-ctx.Done():
			return nil, context.Cause(ctx)
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// settleWithin is how long an outlet waits quietly for others' transactions,
// which take a batch's time each, before it says so.
const settleWithin = 3 * time.Second

// readMarks reads the topic of offsets up to its ends, which are by partition.
func (w *writer) readMarks(ctx context.Context, left map[int32]int64) error {
	if len(left) == 0 {
		return nil
	}
	reader, err := w.d.client(kgo.ConsumeTopics(w.d.options.OffsetTopic), kgo.ConsumeResetOffset(kgo.NewOffset().AtStart()),
		kgo.FetchIsolationLevel(kgo.ReadCommitted()), kgo.FetchMaxWait(200*time.Millisecond), kgo.KeepControlRecords())
	if err != nil {
		return err
	}
	defer reader.Close()
	ctx, cancel := context.WithTimeout(ctx, 20*time.Second)
	defer cancel()
	for len(left) > 0 {
		fetched := reader.PollFetches(ctx)
		if err := ctx.Err(); err != nil {
			return fmt.Errorf("reading the topic %s: %w", w.d.options.OffsetTopic, err)
		}
		for _, e := range fetched.Errors() {
			return e.Err
		}
		fetched.EachRecord(func(r *kgo.Record) {
			if end, there := left[r.Partition]; there && r.Offset+1 >= end {
				delete(left, r.Partition)
			}
			var m mark
			if !r.Attrs.IsControl() && string(r.Key) == w.name() && json.Unmarshal(r.Value, &m) == nil && m.Run == w.outlet.Run {
				w.at = max(w.at, m.Offset)
			}
		})
	}
	return nil
}

// offsetTopic makes sure that the topic of offsets is there.
func (w *writer) offsetTopic(ctx context.Context, admin *kadm.Client) error {
	name := w.d.options.OffsetTopic
	found, err := admin.ListTopics(ctx, name)
	if err != nil {
		return err
	}
	if found.Has(name) {
		return nil
	}
	missing := &engine.Fault{Code: "topic-missing", Message: "the topic " + name + ", which holds the offsets of outlets that deliver exactly once, is not there",
		Fix: "create the topic " + name + " with one partition and cleanup.policy=compact; delivery goes on by itself"}
	if w.d.settings.Create == nil {
		return missing
	}
	compact := "compact"
	made, err := admin.CreateTopic(ctx, 1, int16(w.d.settings.Create.Replication), map[string]*string{"cleanup.policy": &compact}, name)
	if err == nil {
		err = made.Err
	}
	if err != nil && !errors.Is(err, kerr.TopicAlreadyExists) {
		missing.Cause = err
		return missing
	}
	return nil
}
