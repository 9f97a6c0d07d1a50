package mariadb

import (
	"context"

	"rillmark/internal/change"
	"rillmark/internal/destination/sql"
	"rillmark/internal/encode"
	"rillmark/internal/mariadb/wire"
)

// statements are texts that go to the server together.
type statements struct {
	d    *database
	text []byte
}

// begin begins another statement.
func (s *statements) begin(parts ...string) {
	if len(s.text) > 0 {
		s.text = append(s.text, ';')
	}
	for _, part := range parts {
		s.text = append(s.text, part...)
	}
}

// Single implements [sql.RowWriter].
func (d *database) Single(ctx context.Context, b *sql.Binding, messages []*encode.Message) error {
	s := &statements{d: d}
	for i := range messages {
		if err := s.message(b, messages, i); err != nil {
			return err
		}
		if len(s.text) >= largestStatement || i == len(messages)-1 {
			if _, err := d.write(ctx, s.text); err != nil {
				return err
			}
			s.text = s.text[:0]
		}
	}
	return nil
}

// AtOnce implements [sql.RowWriter].
func (d *database) AtOnce(ctx context.Context, bindings []*sql.Binding, messages []*encode.Message, r *sql.Record) (written bool, err error) {
	s := &statements{d: d}
	s.begin("START TRANSACTION")
	for i := range messages {
		if err := s.message(bindings[i], messages[i:i+1], 0); err != nil {
			return false, err
		}
	}
	s.begin(d.recording(r))
	s.begin("SELECT IF(ROW_COUNT() = 0, (SELECT 1 UNION SELECT 2), 1)") // fails where another session has begun
	if len(s.text) >= d.packet {
		return false, nil
	}
	done, err := d.conn.Run(ctx, string(s.text))
	if err == nil && done.Warnings == 0 {
		err = d.conn.Exec(ctx, "COMMIT")
		return err == nil, err
	}
	if err == nil || refusesRow(err) {
		return false, d.conn.Exec(ctx, "ROLLBACK") // it is found out one after another what is refused
	}
	if wire.Code(err) == codeSubquery {
		err = sql.ErrFenced
	}
	d.conn.Exec(ctx, "ROLLBACK") //nolint:errcheck // the first error is the one to report
	return false, err
}

// message appends what one of messages needs.
func (s *statements) message(b *sql.Binding, messages []*encode.Message, i int) error {
	m := messages[i]
	switch {
	case b.Keep == sql.Versions:
		return s.version(b, m)
	case m.Operation == change.Delete && len(b.Key) == 0:
		return sql.Keyless(m)
	case m.Operation == change.Delete:
		if m.Rekeyed != nil && (i+1 == len(messages) || change.Omits(messages[i+1].Row)) {
			if err := s.move(b, m); err != nil {
				return err
			}
		}
		return s.remove(b, m)
	case m.Operation == change.Update && len(b.Key) == 0:
		return sql.Keyless(m)
	case change.Omits(m.Row):
		return s.patch(b, m, b.Carried(m.Row))
	default:
		return s.put(b, m)
	}
}

func flag(b *sql.Binding, m *encode.Message, deleted bool) func(dst []byte, which int) ([]byte, bool) {
	return func(dst []byte, which int) ([]byte, bool) { return b.AppendFlag(dst, m, deleted, which) }
}

// where appends the condition that finds a row by its key.
func (s *statements) where(b *sql.Binding, image []change.Value) (err error) {
	for n, at := range b.Key {
		if n > 0 {
			s.text = append(s.text, " AND "...)
		}
		s.text = append(append(s.text, b.Names[at]...), " = "...)
		if s.text, err = s.d.appendValue(s.text, b, at, image, nil); err != nil {
			return err
		}
	}
	return nil
}

// values appends a row's columns at places as "name = value", with commas between them.
func (s *statements) values(b *sql.Binding, places []int, image []change.Value, own func(dst []byte, which int) ([]byte, bool)) (err error) {
	for n, at := range places {
		if n > 0 {
			s.text = append(s.text, ", "...)
		}
		s.text = append(append(s.text, b.Names[at]...), " = "...)
		if s.text, err = s.d.appendValue(s.text, b, at, image, own); err != nil {
			return err
		}
	}
	return nil
}

// put writes a row of which everything is known.
func (s *statements) put(b *sql.Binding, m *encode.Message) (err error) {
	all := b.All()
	if byKeyAlone(b) || len(b.Key) == 0 {
		s.begin("INSERT INTO ", b.SQL, " (", b.List(all), ") VALUES ")
		if s.text, err = s.d.appendRow(s.text, b, all, m.Row, flag(b, m, false)); err == nil && len(b.Key) > 0 {
			s.text = append(s.text, replacing(b)...)
		}
		return err
	}
	if m.Operation != change.Insert || m.Rekeyed != nil {
		if err := s.patch(b, m, all[:len(b.From)]); err != nil {
			return err
		}
	}
	// ON DUPLICATE KEY would write over a row of another key that has the same value
	// elsewhere.
	s.begin("INSERT INTO ", b.SQL, " (", b.List(all), ") SELECT ")
	at := len(s.text)
	if s.text, err = s.d.appendRow(s.text, b, all, m.Row, flag(b, m, false)); err != nil {
		return err
	}
	s.text = append(s.text[:at], s.text[at+1:len(s.text)-1]...) // without its parentheses
	s.text = append(s.text, " FROM DUAL WHERE NOT EXISTS (SELECT 1 FROM "+b.SQL+" WHERE "...)
	if err = s.where(b, m.Row); err == nil {
		s.text = append(s.text, ')')
	}
	return err
}

// patch writes the columns at places of a row that is there.
func (s *statements) patch(b *sql.Binding, m *encode.Message, places []int) error {
	if len(b.Key) == 0 {
		return sql.Keyless(m)
	}
	s.begin("UPDATE ", b.SQL, " SET ")
	if err := s.values(b, append(places[:len(places):len(places)], b.All()[len(b.From):]...), m.Row, flag(b, m, false)); err != nil {
		return err
	}
	s.text = append(s.text, " WHERE "...)
	return s.where(b, m.Row)
}

// remove takes a row out, or flags it.
func (s *statements) remove(b *sql.Binding, m *encode.Message) error {
	if b.Keep == sql.Flagged {
		s.begin("UPDATE ", b.SQL, " SET ")
		if err := s.values(b, b.All()[len(b.From):], nil, flag(b, m, true)); err != nil {
			return err
		}
	} else {
		s.begin("DELETE FROM ", b.SQL)
	}
	s.text = append(s.text, " WHERE "...)
	return s.where(b, m.Before)
}

// move puts a copy of a row under its new key: the second half of the change may leave values
// out that only the row under the old key has, and may come with the next batch. It then
// writes what is known of it.
func (s *statements) move(b *sql.Binding, old *encode.Message) (err error) {
	now := b.WithKey(old.Before, old.Rekeyed)
	s.begin("DELETE FROM ", b.SQL, " WHERE ")
	if err := s.where(b, now); err != nil {
		return err
	}
	s.begin("INSERT INTO ", b.SQL, " (", b.List(b.All()), ") SELECT ")
	for at, name := range b.Names {
		if at > 0 {
			s.text = append(s.text, ", "...)
		}
		if at < len(b.From) && b.Source.Columns[b.From[at]].Key > 0 {
			if s.text, err = s.d.appendValue(s.text, b, at, now, nil); err != nil {
				return err
			}
			continue
		}
		s.text = append(s.text, name...)
	}
	s.text = append(s.text, " FROM "+b.SQL+" WHERE "...)
	return s.where(b, old.Before)
}

// version writes one message as a version, and ends the one before it.
func (s *statements) version(b *sql.Binding, m *encode.Message) (err error) {
	image := m.Row
	if m.Operation == change.Delete {
		image = m.Before
	}
	one := sql.VersionOf(b, m)
	if len(b.Key) > 0 {
		s.begin("UPDATE ", b.SQL, " SET ", sql.Until, " = ")
		s.text = append(s.d.AppendTime(append(s.text, '\''), m.Committed), '\'')
		s.text = append(s.text, ", "+sql.UntilOffset+" = "...)
		if s.text, err = s.d.appendValue(s.text, b, len(b.From)+1, nil, one); err != nil {
			return err
		}
		s.text = append(s.text, " WHERE "...)
		if err := s.where(b, image); err != nil {
			return err
		}
		s.text = append(s.text, " AND "+sql.Until+" = '"+infinity+"'"...)
	}
	if len(b.Key) == 0 && m.Before != nil {
		// One of the versions that hold and equal the row before it.
		s.begin("UPDATE ", b.SQL, " SET ", sql.Until, " = ")
		s.text = append(s.d.AppendTime(append(s.text, '\''), m.Committed), '\'')
		s.text = append(s.text, ", "+sql.UntilOffset+" = "...)
		if s.text, err = s.d.appendValue(s.text, b, len(b.From)+1, nil, one); err != nil {
			return err
		}
		s.text = append(s.text, " WHERE "+sql.Until+" = '"+infinity+"' AND "+sql.Operation+" <> 'delete'"...)
		for at := range b.From {
			s.text = append(append(append(s.text, " AND "...), b.Names[at]...), " <=> "...)
			if s.text, err = s.d.appendValue(s.text, b, at, m.Before, nil); err != nil {
				return err
			}
		}
		s.text = append(s.text, " LIMIT 1"...)
	}
	s.begin("INSERT INTO ", b.SQL, " (", b.List(b.All()), ") ")
	if !change.Omits(image) || len(b.Key) == 0 || m.Operation == change.Delete {
		s.text = append(s.text, "VALUES "...)
		s.text, err = s.d.appendRow(s.text, b, b.All(), image, one)
		return err
	}
	// What the log left out is as it was in the version before.
	previous := image
	if m.Rekeyed != nil {
		previous = b.WithKey(image, m.Rekeyed)
	}
	s.text = append(s.text, "SELECT "...)
	for at, name := range b.Names {
		if at > 0 {
			s.text = append(s.text, ", "...)
		}
		if at < len(b.From) && image[b.From[at]].Presence == change.Omitted {
			s.text = append(s.text, "`before`."+name...)
			continue
		}
		if s.text, err = s.d.appendValue(s.text, b, at, image, one); err != nil {
			return err
		}
	}
	s.text = append(s.text, " FROM (SELECT 1) one LEFT JOIN (SELECT * FROM "+b.SQL+" WHERE "...)
	if err := s.where(b, previous); err != nil {
		return err
	}
	s.text = append(s.text, " AND "+sql.Operation+" <> 'delete' ORDER BY "+sql.Until+" DESC, "+sql.Offset+" DESC LIMIT 1) `before` ON true"...)
	return nil
}
