package outlet

import (
	"errors"
	"slices"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/destination"
	"rillmark/internal/encode"
	"rillmark/internal/seeded"
)

// TestMoments: all outlets flush at the same moments, however often each does.
func TestMoments(t *testing.T) {
	var room MemoryBudget
	began := room.began()
	for _, after := range []time.Duration{0, time.Millisecond, 299 * time.Millisecond, 300 * time.Millisecond, 4123 * time.Millisecond} {
		at := room.moment(began.Add(after), 300*time.Millisecond)
		require.Zero(t, at.Sub(began)%(300*time.Millisecond))
		require.True(t, at.After(began.Add(after)) && at.Sub(began) <= after+300*time.Millisecond)
		late := room.moment(began.Add(after), lateFlushEvery)
		require.Zero(t, late.Sub(began)%(300*time.Millisecond), "the rarer ones are among them")
	}
	require.Equal(t, roomBytes/batches, room.share(), "none delivers yet")
	require.Equal(t, flushEvery, room.stretch(flushEvery))
	room.running.Store(500)
	require.Equal(t, leastBatch, room.share())
	require.Equal(t, mostStretch*flushEvery, room.stretch(flushEvery))
}

func message(offset int64, row string) encode.Message {
	return encode.Message{Offset: offset, OrderingKey: []byte(row), Table: "public.loans", Type: "rillmark.row.update"}
}

func offsets(messages []encode.Message) (list []int64) {
	for _, m := range messages {
		list = append(list, m.Offset)
	}
	return list
}

// TestWritten: what is counted up to any offset is what was sent up to it, wherever batches end,
// with gaps and with two messages of one offset.
func TestWritten(t *testing.T) {
	random := seeded.Random(t, 1)
	for range 2000 {
		var w written
		var sent []int64
		offset, durable, counted := int64(1), int64(0), int64(0)
		for range 1 + random.IntN(20) {
			var batch []encode.Message
			var dead []refusal
			for range random.IntN(30) {
				offset += int64(random.IntN(3) * random.IntN(2))
				if len(batch) == 0 && len(sent) > 0 && offset == sent[len(sent)-1] {
					offset++ // a batch ends where an event does
				}
				batch = append(batch, encode.Message{Offset: offset})
				if random.IntN(20) == 0 {
					dead = append(dead, refusal{offset: offset})
				}
			}
			for i := range batch {
				if !slices.ContainsFunc(dead, func(d refusal) bool { return d.offset == batch[i].Offset }) {
					sent = append(sent, batch[i].Offset)
				}
			}
			w.add(batch, dead)
			durable += random.Int64N(max(offset-durable, 0) + 1)
			counted += w.upTo(durable)
			want := int64(0)
			for _, one := range sent {
				if one <= durable {
					want++
				}
			}
			require.Equal(t, want, counted, "%v up to %d", sent, durable)
		}
	}
}

// TestWhatIsHeld: a message that cannot be written is a dead letter, and so is what comes
// after it of its row, where later ones wait; those of a row with a dead letter wait too.
func TestWhatIsHeld(t *testing.T) {
	bad := message(2, "a")
	bad.EncodeError = errors.New("cannot be written")
	batch := func() []encode.Message {
		return []encode.Message{message(1, "a"), bad, message(3, "a"), message(4, "b"), message(5, ""), message(6, "dead")}
	}
	s := &sender{Outlet: &Outlet{Wait: true}, rows: map[string]bool{"dead": true}}
	kept, dead := s.held(batch(), nil)
	require.Equal(t, []int64{1, 4, 5}, offsets(kept))
	require.Equal(t, []int64{2, 3, 6}, []int64{dead[0].offset, dead[1].offset, dead[2].offset})
	require.ErrorIs(t, dead[0].err, bad.EncodeError)
	require.NoError(t, dead[1].err, "it only waits")
	s.Wait = false
	kept, dead = s.held(batch(), nil)
	require.Equal(t, []int64{1, 3, 4, 5, 6}, offsets(kept))
	require.Len(t, dead, 1)
}

// TestWhatIsTriedAgain: what failed for now is tried again in its order, with what waits
// behind it; what failed often enough, or for good, is a dead letter.
func TestWhatIsTriedAgain(t *testing.T) {
	s := &sender{Outlet: &Outlet{Wait: true, Attempts: 2}, tries: make(map[int64]int)}
	b := &encode.Batch{Messages: []encode.Message{message(1, "a"), message(2, "a"), message(3, "b"), message(4, "c"), message(5, "c")}}
	for_, now := errors.New("for good"), errors.New("for now")
	refused := []destination.Refusal{{Index: 0, Err: now, Temporary: true}, {Index: 1}, {Index: 3, Err: for_}, {Index: 4}}
	var dead []refusal
	left, temporary := s.judge(b, refused, &dead)
	require.Equal(t, []int64{1, 2}, offsets(left))
	require.ErrorIs(t, temporary, now)
	require.Equal(t, []int64{4, 5}, []int64{dead[0].offset, dead[1].offset})
	require.ErrorIs(t, dead[0].err, for_)
	b.Messages, dead = left, nil
	left, temporary = s.judge(b, []destination.Refusal{{Index: 0, Err: now, Temporary: true}, {Index: 1}}, &dead)
	require.Empty(t, left)
	require.NoError(t, temporary)
	require.Equal(t, []int64{1, 2}, []int64{dead[0].offset, dead[1].offset}, "the second try was the last")
	s.Attempts, s.tries = 0, make(map[int64]int)
	for range 100 {
		require.False(t, s.tooOften(7), "without a bound it is tried until it goes")
	}
}

// TestTheLastHour: steps are ten seconds, an hour of them is kept, and what another
// instance stored is taken in.
func TestTheLastHour(t *testing.T) {
	var h History
	start := time.Date(2026, 11, 25, 9, 0, 0, 0, time.UTC)
	for n := range historyPoints + 20 {
		h.delivered(start.Add(time.Duration(n)*historyStep+time.Second), 2, time.Second)
		h.delivered(start.Add(time.Duration(n)*historyStep+2*time.Second), 3, 2*time.Second)
	}
	require.Len(t, h.points, historyPoints)
	newest := h.points[historyPoints-1]
	require.Equal(t, []any{int64(5), 2.0}, []any{newest.Delivered, newest.Delay})
	now := newest.At.Add(time.Second)
	other := History{points: []Point{{At: newest.At, Delivered: 1}}}
	other.merge([]Point{newest, {At: now.Add(-2 * time.Hour), Delivered: 9}, {At: now.Add(time.Hour), Delivered: 9}}, now)
	require.Equal(t, []Point{newest}, other.points, "the fuller of two stays, and nothing older than an hour or from the future")

	var counts Counts
	parts := []encode.Message{message(1, "a"), message(2, "a"), message(2, "a"), message(3, "b")}
	parts[2].Part = 1 // the second half of a pair
	counts.add(parts, []refusal{{offset: 3}})
	require.Equal(t, Counts{{"public.loans", "rillmark.row.update"}: 2}, counts)
}
