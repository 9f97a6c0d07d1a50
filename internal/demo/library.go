package demo

import (
	"context"
	_ "embed"
	"fmt"
	"math/rand/v2"
	"strings"

	"github.com/jackc/pgx/v5"
)

//go:embed library.sql
var librarySchema string

// Library is the circulation of an invented library network. All names are made
// up. The same seed plays the same day.
type Library struct {
	conn   *pgx.Conn
	random *rand.Rand
	steps  int
}

// NewLibrary works over conn, which it does not close.
func NewLibrary(conn *pgx.Conn, seed uint64) *Library {
	return &Library{conn: conn, random: rand.New(rand.NewPCG(seed, 7450))}
}

var (
	branchNames = []string{"Alder Quay", "Birchgate", "Copper Lane", "Dovemarsh", "Eastmere", "Fenwick Cross", "Gorsefield", "Hazel Row", "Inkerman Yard", "Juniper Hill", "Kestrel Park", "Lanternside"}
	firstNames  = []string{"Anwen", "Bartu", "Cosima", "Dariel", "Edda", "Fenno", "Gitte", "Havel", "Ilka", "Joris", "Kaya", "Leandro", "Mirela", "Nuno", "Odalys", "Pavo", "Quirin", "Rosalba", "Senna", "Tibor"}
	lastNames   = []string{"Abernetti", "Brackwater", "Cindermoor", "Dellacroft", "Elmsworth", "Farrowgate", "Glimmerdale", "Hollinbrook", "Ivesdale", "Jessamere", "Kettlewright", "Lindqvarn", "Marlowski", "Nettleship", "Oakenshaw", "Pellingrove"}
	reasons     = []string{"overdue", "overdue", "overdue", "lost", "damaged"}
	genres      = []string{"novels", "history", "maps", "music", "science", "travel"}
)

// firstCard is beyond what a 64-bit float holds exactly, on purpose.
const firstCard = 9007199254740993

// Fill makes the tables and some ten thousand rows, in one transaction.
func (l *Library) Fill(ctx context.Context) error {
	return pgx.BeginFunc(ctx, l.conn, func(tx pgx.Tx) error {
		if _, err := tx.Exec(ctx, librarySchema); err != nil {
			return fmt.Errorf("making the library's tables: %w", err)
		}
		for i, name := range branchNames {
			if _, err := tx.Exec(ctx, "INSERT INTO branches VALUES ($1, $2, $3, $4, $5::date)", i+1, name+" Library",
				map[string]any{"street": fmt.Sprintf("%d %s Street", 3+7*i, strings.Fields(name)[0]), "floor": i % 3},
				[]string{"Mon-Fri 09:00-19:00", fmt.Sprintf("Sat %02d:00-14:00", 9+i%3)}, fmt.Sprintf("%d-04-01", 1961+4*i)); err != nil {
				return err
			}
		}
		patrons := make([][]any, 3000)
		for i := range patrons {
			patrons[i] = l.patron(int64(i))
		}
		if _, err := tx.CopyFrom(ctx, pgx.Identifier{"patrons"}, []string{"card_number", "name", "email", "branch_id", "preferences"}, pgx.CopyFromRows(patrons)); err != nil {
			return err
		}
		for _, statement := range []string{
			`INSERT INTO copies (work_id, branch_id, barcode, shelf_mark, condition, price, acquired_on)
				SELECT 1 + i % 1700, 1 + i % 12, 'LN' || lpad(i::text, 8, '0'), chr(65 + i % 26) || '-' || (i % 90 + 10) || '.' || (i % 7),
					(ARRAY['new','good','good','worn']::copy_condition[])[1 + i % 4], 4 + (i % 380) / 10.0, DATE '2015-01-05' + (i % 4000)
				FROM generate_series(1, 6000) i`,
			`INSERT INTO loans (copy_id, patron_id, branch_id, lent_at, due_on)
				SELECT i * 4, 1 + i * 7 % 3000, 1 + i % 12, now() - (i % 40) * interval '1 day', current_date - (i % 40) + 28
				FROM generate_series(1, 1500) i`,
			`INSERT INTO holds (work_id, patron_id, branch_id, placed_at)
				SELECT 1 + i * 3 % 1700, 1 + i * 11 % 3000, 1 + i % 12, now() - (i % 14) * interval '1 day' FROM generate_series(1, 400) i`,
		} {
			if _, err := tx.Exec(ctx, statement); err != nil {
				return fmt.Errorf("filling the library's tables: %w", err)
			}
		}
		return nil
	})
}

func (l *Library) patron(i int64) []any {
	first, last := firstNames[l.random.IntN(len(firstNames))], lastNames[l.random.IntN(len(lastNames))]
	var email *string
	if l.random.IntN(5) > 0 {
		address := strings.ToLower(first) + "." + strings.ToLower(last) + fmt.Sprint(l.random.IntN(900)) + "@post.example"
		email = &address
	}
	return []any{firstCard + i, first + " " + last, email, 1 + l.random.IntN(12),
		map[string]any{"genres": []string{genres[l.random.IntN(6)], genres[l.random.IntN(6)]}, "newsletter": l.random.IntN(2) == 0}}
}

// Now and then the tables themselves change.
const (
	firstRemodel = 400 // steps
	remodelEvery = 1500
)

// Step is one piece of the working day: a transaction of one to some dozens of
// changes. It names what it did.
func (l *Library) Step(ctx context.Context) (what string, err error) {
	if l.steps++; l.steps%remodelEvery == firstRemodel {
		return "schema change", l.remodel(ctx)
	}
	err = pgx.BeginFunc(ctx, l.conn, func(tx pgx.Tx) error {
		switch n := l.random.IntN(1000); {
		case n < 340:
			what, err = "checkout", l.checkout(ctx, tx)
		case n < 640:
			what, err = "return", l.run(ctx, tx, `UPDATE loans SET returned_at = clock_timestamp() WHERE loan_id = (
				SELECT loan_id FROM loans WHERE returned_at IS NULL ORDER BY due_on, loan_id OFFSET $1 LIMIT 1)`, l.random.IntN(200))
		case n < 760:
			what, err = "renewal", l.run(ctx, tx, `UPDATE loans SET due_on = due_on + 14, renewals = renewals + 1 WHERE loan_id = (
				SELECT loan_id FROM loans WHERE returned_at IS NULL AND renewals < 5 ORDER BY loan_id DESC OFFSET $1 LIMIT 1)`, l.random.IntN(200))
		case n < 850:
			what, err = "hold placed", l.run(ctx, tx, `INSERT INTO holds (work_id, patron_id, branch_id) VALUES ($1, $2, $3)`, 1+l.random.IntN(1700), 1+l.random.IntN(3000), 1+l.random.IntN(12))
		case n < 890:
			what, err = "hold ready", l.run(ctx, tx, `UPDATE holds SET state = 'ready' WHERE hold_id = (SELECT hold_id FROM holds WHERE state = 'waiting' ORDER BY hold_id LIMIT 1)`)
		case n < 930:
			what, err = "hold cancelled", l.run(ctx, tx, `DELETE FROM holds WHERE hold_id = (SELECT hold_id FROM holds ORDER BY hold_id OFFSET $1 LIMIT 1)`, l.random.IntN(50))
		case n < 960:
			what, err = "fee paid", l.run(ctx, tx, `UPDATE fees SET paid_at = now() WHERE fee_id = (SELECT fee_id FROM fees WHERE paid_at IS NULL ORDER BY fee_id LIMIT 1)`)
		case n < 985:
			p := l.patron(l.random.Int64N(1<<40) + 1<<20)
			what, err = "new patron", l.run(ctx, tx, `INSERT INTO patrons (card_number, name, email, branch_id, preferences) VALUES ($1, $2, $3, $4, $5) ON CONFLICT DO NOTHING`, p...)
		case n < 995:
			what, err = "overdue fees", l.run(ctx, tx, `INSERT INTO fees (loan_id, patron_id, amount, reason)
				SELECT loan_id, patron_id, 0.30 * greatest(current_date - due_on, 1), $1 FROM loans
				WHERE returned_at IS NULL AND NOT EXISTS (SELECT FROM fees WHERE fees.loan_id = loans.loan_id) ORDER BY due_on LIMIT $2`, reasons[l.random.IntN(len(reasons))], 10+l.random.IntN(30))
		default:
			what, err = "weeding", l.run(ctx, tx, `DELETE FROM copies WHERE copy_id IN (
				SELECT copy_id FROM copies WHERE condition IN ('worn', 'damaged') AND NOT EXISTS (SELECT FROM loans WHERE loans.copy_id = copies.copy_id) ORDER BY acquired_on, copy_id LIMIT $1)`, 5+l.random.IntN(20))
		}
		return err
	})
	return what, err
}

// remodel gives holds a column until when a copy is kept at the desk, and fills it
// for those that are ready; the next time it takes the column away again.
func (l *Library) remodel(ctx context.Context) error {
	return pgx.BeginFunc(ctx, l.conn, func(tx pgx.Tx) error {
		var there bool
		if err := tx.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_attribute WHERE attrelid = 'holds'::regclass AND attname = 'kept_until' AND NOT attisdropped)").Scan(&there); err != nil {
			return err
		}
		if there {
			return l.run(ctx, tx, "ALTER TABLE holds DROP COLUMN kept_until")
		}
		if err := l.run(ctx, tx, "ALTER TABLE holds ADD COLUMN kept_until date"); err != nil {
			return err
		}
		return l.run(ctx, tx, "UPDATE holds SET kept_until = current_date + 7 WHERE hold_id IN (SELECT hold_id FROM holds WHERE state = 'ready' ORDER BY hold_id LIMIT 20)")
	})
}

func (l *Library) run(ctx context.Context, tx pgx.Tx, sql string, args ...any) error {
	_, err := tx.Exec(ctx, sql, args...)
	return err
}

// checkout lends a copy and leaves a notice for the patron, in one transaction.
func (l *Library) checkout(ctx context.Context, tx pgx.Tx) error {
	patron, work := 1+l.random.IntN(3000), 1+l.random.IntN(1700)
	if err := l.run(ctx, tx, `INSERT INTO loans (copy_id, patron_id, branch_id, due_on)
		SELECT copy_id, $1, branch_id, current_date + 28 FROM copies WHERE work_id = $2 ORDER BY copy_id LIMIT 1`, patron, work); err != nil {
		return err
	}
	if l.random.IntN(4) > 0 {
		return nil
	}
	return l.run(ctx, tx, `INSERT INTO notices (kind, subject, body) VALUES ('loan.reminder', $1, $2)`,
		fmt.Sprintf("patron/%d", patron), map[string]any{"work": work, "text": "Your loan is due in four weeks."})
}
