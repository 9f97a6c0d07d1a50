package verify

import (
	"context"
	"errors"
	"fmt"
	"math/rand/v2"
	"slices"
	"time"

	"rillmark/internal/change"
)

// Side is the rows of one table, on one of both sides. It is not safe for several
// goroutines.
type Side interface {
	// Schema is how rows are read. All sides of a comparison have the same key.
	Schema() *change.Schema
	// After reads rows in the order of the key: those behind one key, nil for the
	// beginning, and up to another one, nil for no end. The page is good until the next
	// call.
	After(ctx context.Context, after, upTo []string) (Page, error)
	// Skip goes past some rows in the order of the key, without reading them: last is the key
	// of the last one. end says that there are not as many.
	Skip(ctx context.Context, after []string, rows int64) (last []string, end bool, err error)
	// These reads the rows of some keys, in any order.
	These(ctx context.Context, keys [][]string) ([][]change.Value, error)
	// Close ends reading.
	Close()
}

// Page is some rows of a table.
type Page struct {
	Rows [][]change.Value
	// Last is the key of the last row that was looked at, in the server's own text.
	Last []string
	// End says that no row follows.
	End bool
}

// The kinds of differences.
const (
	Missing   = "missing"   // the target lacks the row
	Extra     = "extra"     // the source has no such row
	Different = "different" // both have it, with other values
)

// Difference is a row that is not the same on both sides.
type Difference struct {
	Table string            `json:"table"`
	Kind  string            `json:"kind" enum:"missing,extra,different" doc:"missing: the target lacks the row; extra: the source has none; different: other values"`
	Key   map[string]string `json:"key" doc:"The key's columns"`
	// Columns are those that differ.
	Columns []ColumnDifference `json:"columns,omitempty" doc:"Of a row that is different: its columns that are"`
}

// ColumnDifference is one value on both sides; nil for a null.
type ColumnDifference struct {
	Name   string  `json:"name"`
	Source *string `json:"source" doc:"The source's value, as the rules show it; null for a null"`
	Target *string `json:"target" doc:"The target's value; null for a null"`
}

// TableVerdict is how the comparison of one table stands.
type TableVerdict struct {
	Table     string `json:"table"`
	Rows      int64  `json:"rows" doc:"Rows of the source that were compared"`
	Estimate  int64  `json:"estimate,omitempty" doc:"About how many there are"`
	Missing   int64  `json:"missing" doc:"Rows that the target lacks"`
	Extra     int64  `json:"extra" doc:"Rows that the source does not have"`
	Different int64  `json:"different" doc:"Rows with other values"`
	Undecided int64  `json:"undecided" doc:"Rows that changed each time they were looked at again"`
	Sampled   bool   `json:"sampled,omitempty" doc:"Whether a part of the rows was compared"`
	Done      bool   `json:"done"`
	// Skipped says why the table was not compared.
	Skipped string `json:"skipped,omitempty" doc:"Why the table could not be compared"`
}

// Equal reports whether nothing differs and everything was compared.
func (t *TableVerdict) Equal() bool {
	return t.Done && t.Skipped == "" && t.Missing+t.Extra+t.Different+t.Undecided == 0
}

// Comparison compares one table.
type Comparison struct {
	Table          string
	Source, Target Side
	// Ordered says that both sides' keys have the same order. Keys of text have not, where
	// the databases' collations are others.
	Ordered bool
	// Passed returns once the outlet has delivered all that the source has committed until
	// it was called.
	Passed func(ctx context.Context) error
	// Sample is which share of the rows is compared, in blocks drawn at random; 0 for all.
	// Tables with few rows, by Estimate, are compared whole.
	Sample   float64
	Estimate int64
	// From is where an earlier comparison had come to; nil for the beginning.
	From *Progress
	// Report hears now and then how it stands.
	Report func(TableVerdict)
	// Save keeps how far it has come, now and then; nil where nobody goes on later.
	Save func(context.Context, Progress) error
	// Found hears of each difference.
	Found func(Difference)
	// Guarded calls f, and makes an error of a panic in it; nil calls f alone. Both sides are
	// asked at once, in goroutines of their own.
	Guarded func(f func() error) error

	state      TableVerdict
	names      []string // of the columns that are compared
	from       []int    // their places in the target's rows
	at         []int    // and in the source's
	keyed      []int    // the key's places in the source's rows
	targetKey  []int
	forms      []form // of the columns that are compared
	keyForms   []form
	candidates map[string][]string // keys that differ so far, by their row key
	every      time.Duration       // how often progress is kept
	saved      time.Time
	decided    *Progress // the last place before which nothing was open
}

// Progress is how far the comparison of a table has come: all that was found before is
// decided.
type Progress struct {
	Verdict TableVerdict `json:"verdict"`
	// Backward says that the source's rows have been gone through, and the target's are.
	Backward bool `json:"backward,omitempty"`
	// After is the key behind which it goes on; nil for the beginning.
	After []string `json:"after,omitempty"`
}

// saveEvery is how often progress is kept.
const saveEvery = 5 * time.Second

const (
	// sampleBlock is how many rows of a sample stand together.
	sampleBlock = 1000
	// sampleFrom is how many rows a table has of which a sample is taken.
	sampleFrom = 10 * sampleBlock
)

// maxCandidates are looked at again together.
const maxCandidates = 1000

// tries is how often a row that keeps changing is looked at again.
const tries = 20

// Run compares all rows. Where it is cut short, how far it has come is kept, too.
func (c *Comparison) Run(ctx context.Context) (TableVerdict, error) {
	verdict, err := c.run(ctx)
	if err != nil && c.Save != nil && c.decided != nil {
		if kept := c.Save(context.WithoutCancel(ctx), *c.decided); kept != nil && ctx.Err() == nil {
			err = errors.Join(err, kept)
		}
	}
	return verdict, err
}

func (c *Comparison) run(ctx context.Context) (TableVerdict, error) {
	c.state = TableVerdict{Table: c.Table}
	if err := c.match(); err != nil {
		return c.state, err
	}
	if c.state.Skipped != "" {
		c.state.Done = true
		return c.state, nil
	}
	c.candidates, c.saved = make(map[string][]string), time.Now()
	if c.every == 0 {
		c.every = saveEvery
	}
	var after []string
	backward := false
	if c.From != nil {
		c.state, after, backward = c.From.Verdict, c.From.After, c.From.Backward
	}
	c.state.Sampled = c.Sample > 0 && c.Sample < 1 && c.Estimate >= sampleFrom
	if !backward {
		if err := c.through(ctx, c.Source, after, c.forward); err != nil {
			return c.state, err
		}
		after = nil
	}
	if !c.Ordered {
		if err := c.through(ctx, c.Target, after, c.backward); err != nil {
			return c.state, err
		}
	}
	if err := c.decide(ctx); err != nil {
		return c.state, err
	}
	c.state.Done = true
	return c.state, nil
}

// match pairs the columns of both sides by their names.
func (c *Comparison) match() error {
	source, target := c.Source.Schema(), c.Target.Schema()
	c.keyed = source.Key()
	if len(c.keyed) == 0 {
		c.state.Skipped = "it has no key, by which rows could be told apart"
		return nil
	}
	for _, i := range c.keyed {
		if source.Columns[i].Treatment != "" {
			c.state.Skipped = "its key is kept private by the source's rules"
			return nil
		}
	}
	for i := range source.Columns {
		name := source.Columns[i].Name
		there := slices.IndexFunc(target.Columns, func(t change.Column) bool { return t.Name == name })
		if there < 0 {
			c.state.Skipped = "the target has no column " + name
			return nil
		}
		c.names, c.at, c.from = append(c.names, name), append(c.at, i), append(c.from, there)
		c.forms = append(c.forms, formOf(&source.Columns[i], &target.Columns[there], source.Engine == target.Engine))
	}
	for _, i := range c.keyed {
		c.targetKey, c.keyForms = append(c.targetKey, c.from[i]), append(c.keyForms, c.forms[i])
	}
	return nil
}

// through goes through a side's rows behind a key, or through blocks of them.
func (c *Comparison) through(ctx context.Context, side Side, after []string, part func(ctx context.Context, after, bound []string) error) error {
	if !c.state.Sampled {
		return part(ctx, after, nil)
	}
	gap := sampleBlock * (1/c.Sample - 1)
	for {
		var end bool
		var err error
		if rows := int64(rand.Float64() * 2 * gap); rows > 0 {
			if after, end, err = side.Skip(ctx, after, rows); err != nil || end {
				return err
			}
		}
		bound, end, err := side.Skip(ctx, after, sampleBlock)
		if err != nil {
			return err
		}
		if end {
			bound = nil
		}
		if err := part(ctx, after, bound); err != nil || end {
			return err
		}
		after = bound
	}
}

// forward goes through the source's rows between two keys.
func (c *Comparison) forward(ctx context.Context, after, bound []string) error {
	if c.canSum() {
		return c.forwardBySums(ctx, after, bound)
	}
	return c.forwardByRows(ctx, after, bound)
}

// forwardByRows goes through the source's rows between two keys, and looks for each at the target: among those of
// the same range where the order is the same, else among those of the same keys.
func (c *Comparison) forwardByRows(ctx context.Context, after, bound []string) error {
	for {
		page, err := c.Source.After(ctx, after, bound)
		if err != nil {
			return fmt.Errorf("reading %s at the source: %w", c.Table, err)
		}
		expected := make(map[string][]change.Value, len(page.Rows))
		for _, row := range page.Rows {
			expected[c.rowKey(row, c.keyed)] = change.CloneImage(row) // the page is good until it is read on
		}
		if c.Ordered {
			upTo := bound
			if !page.End {
				upTo = page.Last
			}
			err = c.between(ctx, expected, after, upTo)
		} else if len(expected) > 0 {
			keys := make([][]string, 0, len(expected))
			for _, row := range expected {
				keys = append(keys, texts(row, c.keyed, c.Source.Schema()))
			}
			var rows [][]change.Value
			if rows, err = c.Target.These(ctx, keys); err == nil {
				c.pair(expected, rows)
			}
		}
		if err != nil {
			return fmt.Errorf("reading %s at the target: %w", c.Table, err)
		}
		for key, row := range expected { // at the source alone
			c.candidates[key] = texts(row, c.keyed, c.Source.Schema())
		}
		c.state.Rows += int64(len(page.Rows))
		if err := c.turn(ctx); err != nil {
			return err
		}
		if page.End {
			return nil
		}
		after = page.Last
		if err := c.save(ctx, false, after); err != nil {
			return err
		}
	}
}

// between reads the target's rows of a page's range, however many they are.
func (c *Comparison) between(ctx context.Context, expected map[string][]change.Value, after, upTo []string) error {
	for {
		part, err := c.Target.After(ctx, after, upTo)
		if err != nil {
			return err
		}
		c.pair(expected, part.Rows)
		if part.End {
			return nil
		}
		after = part.Last
		if err := c.turn(ctx); err != nil {
			return err
		}
	}
}

// pair takes rows of the target out of those that are expected, and notes what differs.
func (c *Comparison) pair(expected map[string][]change.Value, rows [][]change.Value) {
	for _, row := range rows {
		key := c.rowKey(row, c.targetKey)
		want, found := expected[key]
		delete(expected, key)
		if !found || !c.same(want, row) {
			c.candidates[key] = texts(row, c.targetKey, c.Target.Schema())
		}
	}
}

// backward goes through the target's rows between two keys, and looks for each at the source.
func (c *Comparison) backward(ctx context.Context, after, bound []string) error {
	for {
		page, err := c.Target.After(ctx, after, bound)
		if err != nil {
			return fmt.Errorf("reading %s at the target: %w", c.Table, err)
		}
		missing := make(map[string][]string, len(page.Rows))
		keys := make([][]string, 0, len(page.Rows))
		for _, row := range page.Rows {
			text := texts(row, c.targetKey, c.Target.Schema())
			missing[c.rowKey(row, c.targetKey)] = text
			keys = append(keys, text)
		}
		if len(keys) > 0 {
			rows, err := c.Source.These(ctx, keys)
			if err != nil {
				return fmt.Errorf("reading %s at the source: %w", c.Table, err)
			}
			for _, row := range rows {
				delete(missing, c.rowKey(row, c.keyed))
			}
		}
		for key, text := range missing {
			c.candidates[key] = text
		}
		if err := c.turn(ctx); err != nil {
			return err
		}
		if page.End {
			return nil
		}
		after = page.Last
		if err := c.save(ctx, true, after); err != nil {
			return err
		}
	}
}

// save keeps how far it has come, where it is time to.
func (c *Comparison) save(ctx context.Context, backward bool, after []string) error {
	if c.Save == nil {
		return nil
	}
	due := time.Since(c.saved) >= c.every
	if due {
		if err := c.decide(ctx); err != nil {
			return err
		}
	}
	if len(c.candidates) > 0 {
		return nil
	}
	c.decided = &Progress{Verdict: c.state, Backward: backward, After: slices.Clone(after)}
	if !due {
		return nil
	}
	c.saved = time.Now()
	return c.Save(ctx, *c.decided)
}

// turn reports how it stands, and decides on what differs so far where that is much.
func (c *Comparison) turn(ctx context.Context) error {
	if c.Report != nil {
		c.Report(c.state)
	}
	if len(c.candidates) < maxCandidates {
		return nil
	}
	return c.decide(ctx)
}

// same compares rows of both sides. A value that is left out at the source, since it is too
// large, is not compared.
func (c *Comparison) same(source, target []change.Value) bool {
	for i := range c.at {
		if !c.sameValue(i, source[c.at[i]], target[c.from[i]]) {
			return false
		}
	}
	return true
}

func (c *Comparison) sameValue(i int, source, target change.Value) bool {
	return source.Presence == change.Omitted || source.Equal(target) || c.forms[i] != nil && normal(source, c.forms[i]).Equal(normal(target, c.forms[i]))
}

func normal(v change.Value, f form) change.Value {
	if f != nil && v.Presence == change.Present {
		v.Text = f(v.Text)
	}
	return v
}

// rowKey tells rows apart, whichever side they are from.
func (c *Comparison) rowKey(row []change.Value, keyed []int) string {
	values := make([]change.Value, 0, 4)
	for i, at := range keyed {
		values = append(values, normal(row[at], c.keyForms[i]))
	}
	return change.RowKey(values)
}

// texts are a row's key as servers read it.
func texts(row []change.Value, keyed []int, schema *change.Schema) []string {
	key := make([]string, len(keyed))
	for i, at := range keyed {
		key[i] = KeyText(&schema.Columns[at], row[at])
	}
	return key
}

// ErrNoTable says that a side has no such table.
var ErrNoTable = errors.New("there is no such table")

// OrderAgrees reports whether the keys of two schema versions have the same order on their
// servers.
func OrderAgrees(source, target *change.Schema) bool {
	others := target.Key()
	if len(source.Key()) != len(others) {
		return false
	}
	for n, i := range source.Key() {
		s, t := &source.Columns[i], &target.Columns[others[n]]
		if s.Treatment != "" || t.Treatment != "" {
			return false
		}
		same := source.Engine == target.Engine && s.Rule == t.Rule
		switch s.Rule {
		case change.RuleInteger, change.RuleUnsigned, change.RuleDecimal:
			if t.Rule == change.RuleInteger || t.Rule == change.RuleUnsigned || t.Rule == change.RuleDecimal {
				continue
			}
		case change.RuleDate, change.RuleBinary:
			if s.Rule == t.Rule {
				continue
			}
		case change.RuleTimestamp, change.RuleTimestampTZ:
			if t.Rule == change.RuleTimestamp || t.Rule == change.RuleTimestampTZ {
				continue
			}
		case change.RuleBoolean, change.RuleUUID:
			if same {
				continue
			}
		default:
		}
		return false
	}
	return true
}
