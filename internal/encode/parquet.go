package encode

import "rillmark/internal/change"

// parquetFormat gives a row's values to a writer of Parquet files.
type parquetFormat struct{ rowFormat }

func (f parquetFormat) body(b *Batch, e *change.Event, half string, msg *Message) error {
	row, err := f.values(b, e, half, msg)
	if err != nil {
		return err
	}
	for i := range len(row) - len(f.m.flat.chosen) {
		// The event's own text is good only until the reader's next call.
		at := len(b.buf)
		b.buf = append(b.buf, row[i].Text...)
		row[i].Text = b.since(at)
	}
	msg.Row = row
	if f.m.FitRow == nil {
		return nil
	}
	form, err := f.m.FitRow(msg.Schema)
	if err != nil {
		return err
	}
	if msg.Formed, err = form.Form(row, e.Operation == change.Delete || half == "old"); err != nil {
		return &EncodeError{Message: err.Error()}
	}
	return nil
}
