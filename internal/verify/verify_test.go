package verify

import (
	"context"
	"errors"
	"fmt"
	"maps"
	"math/rand/v2"
	"slices"
	"strconv"
	"testing"

	"github.com/stretchr/testify/require"

	"rillmark/internal/change"
	"rillmark/internal/seeded"
)

// memory is one side of a comparison, whose rows are id and note.
type memory struct {
	schema *change.Schema
	rows   map[int]string // "" is a null
	// row makes one in the order of the schema's columns.
	row    func(id int, note string) []change.Value
	random *rand.Rand
	most   int // rows of a page; 0: 40
	// moves is called before each read: the world goes on.
	moves func()
}

func (m *memory) Schema() *change.Schema { return m.schema }
func (*memory) Close()                   {}

func (m *memory) After(_ context.Context, after, upTo []string) (Page, error) {
	m.moves()
	number := func(key []string, otherwise int) int {
		if key == nil {
			return otherwise
		}
		n, _ := strconv.Atoi(key[0])
		return n
	}
	from, to := number(after, -1), number(upTo, 1<<30)
	ids := slices.Sorted(maps.Keys(m.rows))
	ids = slices.DeleteFunc(ids, func(id int) bool { return id <= from || id > to })
	most := 1 + m.random.IntN(max(m.most, 40))
	p := Page{End: len(ids) <= most}
	for _, id := range ids[:min(most, len(ids))] {
		p.Rows, p.Last = append(p.Rows, m.row(id, m.rows[id])), []string{strconv.Itoa(id)}
	}
	return p, nil
}

func (m *memory) Skip(ctx context.Context, after []string, rows int64) (last []string, end bool, err error) {
	from := -1
	if after != nil {
		from, _ = strconv.Atoi(after[0])
	}
	ids := slices.DeleteFunc(slices.Sorted(maps.Keys(m.rows)), func(id int) bool { return id <= from })
	if int64(len(ids)) < rows {
		return after, true, nil
	}
	return []string{strconv.Itoa(ids[rows-1])}, false, nil
}

func (m *memory) These(_ context.Context, keys [][]string) (rows [][]change.Value, err error) {
	m.moves()
	for _, key := range keys {
		id, _ := strconv.Atoi(key[0])
		if note, there := m.rows[id]; there {
			rows = append(rows, m.row(id, note))
		}
	}
	return rows, nil
}

func text(note string) change.Value {
	if note == "" {
		return change.NullValue()
	}
	return change.Of(note)
}

// TestComparison compares tables that change all the while, the target behind the source, with
// differences planted in rows that rest: exactly those are found, whichever way is read.
func TestComparison(t *testing.T) {
	random := seeded.Random(t, 24)
	id := change.Column{Name: "id", Type: "bigint", Rule: change.RuleInteger, Bits: 64, Key: 1}
	note := change.Column{Name: "note", Type: "text", Rule: change.RuleText, Nullable: true}
	extra := change.Column{Name: "_offset", Type: "bigint", Rule: change.RuleInteger, Bits: 64}
	for round := range 60 {
		type step struct {
			id   int
			note string
			gone bool
		}
		var queue []step
		quiet := round%3 == 0
		source := &memory{schema: change.NewSchema(change.PostgreSQL, "public.loans", []change.Column{id, note}, nil, false), rows: make(map[int]string), random: random,
			row: func(id int, note string) []change.Value {
				return []change.Value{change.Of(strconv.Itoa(id)), text(note)}
			}}
		target := &memory{schema: change.NewSchema(change.PostgreSQL, "public.loans", []change.Column{note, extra, id}, nil, false), rows: make(map[int]string), random: random,
			row: func(id int, note string) []change.Value {
				return []change.Value{text(note), change.Of("7"), change.Of(strconv.Itoa(id))}
			}}
		deliver := func(n int) {
			for _, s := range queue[:n] {
				if s.gone {
					delete(target.rows, s.id)
				} else {
					target.rows[s.id] = s.note
				}
			}
			queue = queue[n:]
		}
		steps := 0
		move := func() {
			if steps++; quiet || steps > 400 {
				return // it comes to rest at last
			}
			for range random.IntN(4) {
				s := step{id: 10 * random.IntN(60), note: fmt.Sprint("note ", random.IntN(9)), gone: random.IntN(3) == 0}
				if s.gone {
					delete(source.rows, s.id)
				} else {
					source.rows[s.id] = s.note
				}
				queue = append(queue, s)
			}
			deliver(random.IntN(len(queue) + 1))
		}
		source.moves, target.moves = move, move
		planted := make(map[string]string)
		for n := range 600 {
			rests := n%10 != 0 // the others come and go
			if rests && random.IntN(5) > 0 {
				continue
			}
			source.rows[n], target.rows[n] = fmt.Sprint("at ", n), fmt.Sprint("at ", n)
			if !rests {
				continue
			}
			switch random.IntN(9) {
			case 0:
				delete(target.rows, n)
				planted[strconv.Itoa(n)] = Missing
			case 1:
				delete(source.rows, n)
				planted[strconv.Itoa(n)] = Extra
			case 2:
				target.rows[n] = []string{"", "at " + strconv.Itoa(n) + " "}[random.IntN(2)]
				planted[strconv.Itoa(n)] = Different
			}
		}
		found := make(map[string]string)
		var reported TableVerdict
		c := &Comparison{Table: "public.loans", Source: source, Target: target, Ordered: round%2 == 0,
			Passed: func(context.Context) error { deliver(len(queue)); return nil },
			Report: func(v TableVerdict) { reported = v },
			Found: func(d Difference) {
				require.NotContains(t, found, d.Key["id"], "each difference is reported once")
				found[d.Key["id"]] = d.Kind
				require.Equal(t, d.Kind == Different, len(d.Columns) == 1)
				if d.Kind == Different {
					require.Equal(t, "note", d.Columns[0].Name)
					require.Equal(t, "at "+d.Key["id"], *d.Columns[0].Source)
				}
			}}
		// It may be cut short, and go on where it was last put on record.
		var kept *Progress
		var foundThen map[string]string
		saves, cut := 0, errors.New("cut short")
		if round%4 < 2 {
			c.every = 1
			c.Save = func(_ context.Context, p Progress) error {
				if saves++; saves == 4 {
					return cut
				}
				kept, foundThen = &p, maps.Clone(found)
				return nil
			}
		}
		verdict, err := c.Run(t.Context())
		if errors.Is(err, cut) {
			found = foundThen
			again := &Comparison{Table: c.Table, Source: source, Target: target, Ordered: c.Ordered, Passed: c.Passed, Report: c.Report, Found: c.Found, From: kept}
			verdict, err = again.Run(t.Context())
		}
		require.NoError(t, err)
		require.Equal(t, planted, found)
		count := make(map[string]int64)
		for _, kind := range planted {
			count[kind]++
		}
		require.Equal(t, []int64{count[Missing], count[Extra], count[Different], 0}, []int64{verdict.Missing, verdict.Extra, verdict.Different, verdict.Undecided})
		require.Equal(t, len(planted) == 0, verdict.Equal())
		require.Positive(t, reported.Rows)
	}
}

// TestSample: of a large table about the share is compared that was asked for, and what differs
// there is found; a small one is compared whole.
func TestSample(t *testing.T) {
	random := seeded.Random(t, 27)
	schema := change.NewSchema(change.PostgreSQL, "public.loans", []change.Column{{Name: "id", Type: "bigint", Rule: change.RuleInteger, Bits: 64, Key: 1}, {Name: "note", Type: "text", Rule: change.RuleText}}, nil, false)
	side := func() *memory {
		m := &memory{schema: schema, rows: make(map[int]string), random: random, most: 2000, moves: func() {}, row: func(id int, note string) []change.Value {
			return []change.Value{change.Of(strconv.Itoa(id)), text(note)}
		}}
		for n := range 12_000 {
			m.rows[n] = "at " + strconv.Itoa(n)
		}
		return m
	}
	for _, ordered := range []bool{true, false} {
		for _, one := range []struct {
			share       float64
			estimate    int64
			least, most int64
		}{{0.5, 12_000, 1_000, 11_000}, {0.05, 12_000, 0, 4_000}, {0.05, 900, 11_976, 11_976}, {0, 12_000, 11_976, 11_976}} {
			source, target := side(), side()
			for n := 0; n < 12_000; n += 500 {
				delete(target.rows, n)
				delete(source.rows, n+1)
			}
			found := 0
			c := &Comparison{Source: source, Target: target, Ordered: ordered, Sample: one.share, Estimate: one.estimate, Passed: func(context.Context) error { return nil },
				Found: func(d Difference) {
					id, _ := strconv.Atoi(d.Key["id"])
					require.Equal(t, map[int]string{0: Missing, 1: Extra}[id%500], d.Kind)
					found++
				}}
			verdict, err := c.Run(t.Context())
			require.NoError(t, err)
			require.Equal(t, one.share > 0 && one.estimate > 900, verdict.Sampled)
			require.LessOrEqual(t, verdict.Rows, one.most)
			require.GreaterOrEqual(t, verdict.Rows, one.least)
			require.GreaterOrEqual(t, found, int(verdict.Rows/500), "in each block, two of 500 rows")
		}
	}
}

// TestNotCompared: what cannot be compared says why, and a side that fails ends it.
func TestNotCompared(t *testing.T) {
	id := change.Column{Name: "id", Type: "bigint", Rule: change.RuleInteger, Bits: 64, Key: 1}
	note := change.Column{Name: "note", Type: "text", Rule: change.RuleText}
	private, keyless := id, id
	private.Treatment, keyless.Key = "hash", 0
	side := func(columns ...change.Column) *memory {
		return &memory{schema: change.NewSchema(change.PostgreSQL, "public.loans", columns, nil, false), moves: func() {}, random: seeded.Random(t, 25)}
	}
	for _, one := range []struct {
		source, target *memory
		why            string
	}{
		{side(keyless, note), side(id, note), "it has no key"},
		{side(private, note), side(id, note), "its key is kept private"},
		{side(id, note), side(id), "the target has no column note"},
	} {
		verdict, err := (&Comparison{Source: one.source, Target: one.target}).Run(t.Context())
		require.NoError(t, err)
		require.Contains(t, verdict.Skipped, one.why)
		require.False(t, verdict.Equal())
	}
	away := errors.New("away")
	late := &memory{schema: side(id).schema, rows: map[int]string{1: "a"}, moves: func() {}, random: seeded.Random(t, 26), row: func(id int, _ string) []change.Value { return []change.Value{change.Of(strconv.Itoa(id))} }}
	_, err := (&Comparison{Source: late, Target: side(id), Passed: func(context.Context) error { return away }}).Run(t.Context())
	require.ErrorIs(t, err, away)
}
