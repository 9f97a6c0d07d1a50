package test

import (
	"bytes"
	"fmt"
	"sync/atomic"
	"testing"

	"github.com/stretchr/testify/require"
	"github.com/twmb/franz-go/pkg/kerr"
	"github.com/twmb/franz-go/pkg/kfake"
	"github.com/twmb/franz-go/pkg/kmsg"
)

// TestABrokerRefusesARecord: a broker that refuses one record refuses what was
// sent with it, and does not say which one it was. Only that one is a dead letter, the
// later one of its row waits, and all others arrive in their order.
func TestABrokerRefusesARecord(t *testing.T) {
	t.Parallel()
	i, name := begin(t, "", deskTable)
	db := connect(t, sourceServer(t), name)
	broker, err := kfake.NewCluster(kfake.NumBrokers(1), kfake.DefaultNumPartitions(3))
	require.NoError(t, err)
	t.Cleanup(broker.Close)
	var mended atomic.Bool
	broker.ControlKey(int16(kmsg.Produce), func(request kmsg.Request) (kmsg.Response, error, bool) { // its order of results
		broker.KeepControl()
		produce := request.(*kmsg.ProduceRequest)
		refused := false
		for _, topic := range produce.Topics {
			for _, p := range topic.Partitions {
				refused = refused || bytes.Contains(p.Records, []byte("poison"))
			}
		}
		if !refused || mended.Load() {
			return nil, nil, false
		}
		answer := produce.ResponseKind().(*kmsg.ProduceResponse)
		for _, topic := range produce.Topics {
			one := kmsg.NewProduceResponseTopic()
			one.Topic, one.TopicID = topic.Topic, topic.TopicID
			for _, p := range topic.Partitions {
				part := kmsg.NewProduceResponseTopicPartition()
				part.Partition, part.ErrorCode = p.Partition, kerr.InvalidRecord.Code
				one.Partitions = append(one.Partitions, part)
			}
			answer.Topics = append(answer.Topics, one)
		}
		return answer, nil, true
	})
	address := broker.ListenAddrs()[0]
	for outlet, kafka := range map[string]map[string]any{"plain": {}, "exact": {"exactly_once": true}} {
		i.add(target{name: outlet, destination: map[string]any{"kind": "kafka", "kafka": map[string]any{"brokers": []string{address}, "create_topics": map[string]any{"partitions": 3}}},
			outlet: map[string]any{"tables": []string{"desk"}, "operations": []string{"insert", "update"}, "topic": outlet + ".{table}", "kafka": kafka}})
	}
	i.resume()
	i.settled("circulation", db)
	run(t, db, "BEGIN", "INSERT INTO desk SELECT n, CASE n WHEN 150 THEN 'poison' ELSE 'n' || n END FROM generate_series(1, 200) n",
		"UPDATE desk SET note = 'later'", "COMMIT")
	i.reached("circulation", db)
	i.caughtUp("plain", "exact")
	for _, outlet := range []string{"plain", "exact"} {
		l := i.letters(outlet)
		require.Equal(t, []int64{1, 1}, []int64{l.Dead, l.Behind}, outlet)
		for _, one := range l.Items {
			require.Equal(t, "150", one.Key, outlet)
		}
		require.Contains(t, l.Items[0].Error, "INVALID_RECORD")
	}
	mended.Store(true)
	for _, outlet := range []string{"plain", "exact"} {
		_, errs, code := i.cli("dead-letter", "retry", outlet, "--all")
		require.Zero(t, code, errs)
		i.eventually("there are no dead letters any more", func() bool { l := i.letters(outlet); return l.Dead+l.Behind == 0 })
		newest, seen := make(map[string]int64), make(map[string]int)
		for _, r := range records(t, address, outlet+".") {
			a := arrivalOf(t, []byte(*r.Payload))
			if seen[a.id]++; seen[a.id] == 1 {
				require.Greater(t, a.offset, newest[a.row], "%s: %s", outlet, a.id)
			}
			newest[a.row] = a.offset
			if outlet == "exact" {
				require.Equal(t, 1, seen[a.id], a.id)
			}
		}
		require.Len(t, seen, 400, outlet)
		for row, last := range newest {
			require.Greater(t, last, int64(200), fmt.Sprintf("%s: the newest of %s comes last", outlet, row))
		}
	}
}
