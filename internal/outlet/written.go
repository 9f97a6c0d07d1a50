package outlet

import (
	"context"

	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/journal"
)

// written counts the messages that were sent and are not committed yet, so that a commit counts
// those that it makes durable and no others: what comes again after a restart is counted then.
type written struct {
	batches []writtenBatch
	// newest are the offsets of the newest batch's messages: a commit may end within it.
	newest []int64
}

type writtenBatch struct{ last, messages int64 }

// maxWritten bounds the batches; those above are put together, as where a file takes long to fill.
const maxWritten = 4096

// add takes in a batch that was sent up to an offset, but for what is dead of it.
func (w *written) add(last int64, messages []encode.Message, dead []refusal) {
	gone := make(map[int64]bool, len(dead))
	for _, one := range dead {
		gone[one.offset] = true
	}
	w.newest = w.newest[:0]
	for i := range messages {
		if m := &messages[i]; !gone[m.Offset] {
			w.newest = append(w.newest, m.Offset)
		}
	}
	n := len(w.batches)
	if n >= maxWritten {
		w.batches[n-1].last, w.batches[n-1].messages = last, w.batches[n-1].messages+int64(len(w.newest))
		return
	}
	w.batches = append(w.batches, writtenBatch{last, int64(len(w.newest))})
}

// upTo takes out the messages up to an offset, and counts them.
func (w *written) upTo(durable int64) (n int64) {
	done := 0
	for done < len(w.batches) && w.batches[done].last <= durable {
		n += w.batches[done].messages
		done++
	}
	w.batches = append(w.batches[:0], w.batches[done:]...)
	if len(w.batches) != 1 {
		return n
	}
	kept := w.newest[:0]
	for _, offset := range w.newest {
		if offset > durable {
			kept = append(kept, offset)
		}
	}
	n += int64(len(w.newest) - len(kept))
	w.batches[0].messages -= int64(len(w.newest) - len(kept))
	w.newest = kept
	return n
}

// delivered counts what a destination has that keeps its own record, beyond what was committed
// here: it does not come again. Where it cannot be read any more it is not counted.
func (o *Outlet) delivered(ctx context.Context, committed, has int64) (n int64) {
	if has <= committed || o.Net {
		return 0
	}
	filter := o.Filter()
	reader := o.Store.Reader(o.Origin.SourceID, committed+1, journal.ReaderOptions{Wants: filter.AdmitsTable, For: o.ID})
	var e change.Event
	for reader.Position() <= has {
		batch, err := reader.TryNext(ctx)
		if err != nil || batch == nil {
			return n
		}
		for batch.Next(&e) && e.Offset <= has {
			if admitted, err := filter.Admits(&e); err == nil && admitted {
				n++
			}
		}
		if batch.Err() != nil {
			return n
		}
	}
	return n
}
