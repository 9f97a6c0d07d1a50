package outlet

import (
	"context"

	"rillmark/internal/change"
	"rillmark/internal/encode"
	"rillmark/internal/journal"
)

// written counts the messages that were sent and are not committed yet, so that a commit counts
// those that it makes durable and no others: what comes again after a restart is counted then. A
// commit may end anywhere, within a batch or several batches back.
type written struct{ runs []writtenRun }

// writtenRun are messages of adjoining offsets, one of each; of others it is one offset alone.
type writtenRun struct{ first, last, messages int64 }

// maxWritten bounds the runs; those above are put together, as where a file takes long to fill.
const maxWritten = 64 << 10

// add takes in messages that were sent, but for what is dead of them.
func (w *written) add(messages []encode.Message, dead []refusal) {
	gone := make(map[int64]bool, len(dead))
	for _, one := range dead {
		gone[one.offset] = true
	}
	for i := range messages {
		if m := &messages[i]; !gone[m.Offset] {
			w.one(m.Offset)
		}
	}
}

func (w *written) one(offset int64) {
	if n := len(w.runs); n > 0 {
		switch newest := &w.runs[n-1]; {
		case offset == newest.last+1 && newest.dense(), offset == newest.last && newest.first == offset, n >= maxWritten:
			newest.last = max(newest.last, offset)
			newest.messages++
			return
		}
	}
	w.runs = append(w.runs, writtenRun{offset, offset, 1})
}

// dense reports whether there is one message of each offset.
func (r *writtenRun) dense() bool { return r.messages == r.last-r.first+1 }

// upTo takes out the messages up to an offset, and counts them.
func (w *written) upTo(durable int64) (n int64) {
	done := 0
	for done < len(w.runs) && w.runs[done].last <= durable {
		n += w.runs[done].messages
		done++
	}
	w.runs = append(w.runs[:0], w.runs[done:]...)
	if len(w.runs) > 0 && w.runs[0].first <= durable && w.runs[0].dense() {
		part := durable - w.runs[0].first + 1
		w.runs[0].first, w.runs[0].messages, n = durable+1, w.runs[0].messages-part, n+part
	}
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
