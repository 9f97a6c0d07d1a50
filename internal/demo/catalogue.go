package demo

import (
	"context"
	"database/sql"
	_ "embed"
	"fmt"
	"math/rand/v2"
	"time"
)

//go:embed catalogue.sql
var catalogueTables string

// catalogueDatabase is the database of the library's catalogue, on a MariaDB server.
const catalogueDatabase = "catalogue"

// Catalogue is the library's catalogue of works: what is known of books, beside
// circulation, which knows of copies.
type Catalogue struct {
	db     *sql.DB
	random *rand.Rand
	works  int
}

// NewCatalogue is a catalogue over a pool of sessions in its database, which stays the
// caller's.
func NewCatalogue(db *sql.DB, seed uint64) *Catalogue {
	return &Catalogue{db: db, random: rand.New(rand.NewPCG(seed, 3)), works: catalogueWorks}
}

// catalogueWorks are in the catalogue at first.
const catalogueWorks = 800

// Fill makes the tables and their first rows.
func (c *Catalogue) Fill(ctx context.Context) error {
	for _, statement := range []string{
		catalogueTables,
		`INSERT INTO authors (name, born, notes)
			SELECT concat(elt(1 + seq % 12, 'Ada', 'Bruno', 'Carla', 'Dmitri', 'Elif', 'Farid', 'Greta', 'Hugo', 'Inés', 'Jonas', 'Klára', 'Léo'), ' ', elt(1 + seq % 11, 'Albrecht', 'Brandt', 'Čapek', 'Duval', 'Eriksen', 'Fuchs', 'García', 'Holm', 'Ivanova', 'Jansen', 'Kovács')),
				1905 + seq % 95, json_object('source', 'made up', 'number', seq) FROM seq_1_to_150`,
		`INSERT INTO works (title, author_id, audience, subjects)
			SELECT concat(elt(1 + seq % 9, 'The Quiet', 'A Short', 'Letters from the', 'The Last', 'Notes on a', 'Under the', 'Beyond the', 'The Little', 'Songs of the'), ' ', elt(1 + seq % 13, 'River', 'Atlas', 'Harbour', 'Garden', 'Winter', 'Orchard', 'Bridge', 'Lantern', 'Mountain', 'Archive', 'Tower', 'Meadow', 'Sea'), ' ', seq),
				1 + seq % 150, 1 + seq % 3, seq % 64 FROM seq_1_to_800`,
		`INSERT INTO editions (work_id, isbn, published, pages, list_price, running_time)
			SELECT 1 + seq % 800, concat('978', lpad(seq * 7919, 10, '0')), '1990-01-01' + INTERVAL seq * 9 DAY, 60 + seq % 700, 4.90 + seq % 40, if(seq % 10 = 0, sec_to_time(1800 + seq * 11), NULL) FROM seq_1_to_1200`,
		`INSERT INTO shelf_marks (mark, label, room, colour)
			SELECT concat(char(65 + seq % 20), '-', lpad(seq, 3, '0')), concat('Shelf ', seq), 1 + seq % 9, unhex(lpad(hex(seq * 40503 % 16777216), 6, '0')) FROM seq_1_to_120`,
	} {
		if _, err := c.db.ExecContext(ctx, statement); err != nil {
			return err
		}
	}
	return nil
}

// Step is one transaction of the catalogue's day.
func (c *Catalogue) Step(ctx context.Context) error {
	tx, err := c.db.BeginTx(ctx, nil)
	if err != nil {
		return err
	}
	defer tx.Rollback() //nolint:errcheck // after a commit it does nothing
	work := 1 + c.random.IntN(c.works)
	exec := func(statement string, args ...any) {
		if err == nil {
			_, err = tx.ExecContext(ctx, statement, args...)
		}
	}
	switch n := c.random.IntN(20); {
	case n < 8:
		exec("UPDATE works SET title = concat(substring_index(title, ' (', 1), ' (', ?, ' ed.)') WHERE work_id = ?", 2+c.random.IntN(7), work)
	case n < 13:
		exec("INSERT IGNORE INTO editions (work_id, isbn, published, pages, list_price) VALUES (?, ?, current_date, ?, ?)", work, fmt.Sprintf("979%010d", c.random.Uint64N(1e10)), 80+c.random.IntN(600), fmt.Sprintf("%d.90", 4+c.random.IntN(40)))
	case n < 15:
		exec("UPDATE editions SET list_price = list_price + 1 WHERE work_id = ?", work)
	case n < 16:
		exec("DELETE FROM editions WHERE isbn LIKE '979%' ORDER BY edition_id LIMIT 1")
	case n < 18:
		exec("UPDATE shelf_marks SET room = 1 + room % 9, is_open = is_open ^ 1 WHERE mark = ?", fmt.Sprintf("%c-%03d", 'A'+work%120%20, work%120))
	default:
		exec("INSERT INTO authors (name, born) VALUES (?, ?)", fmt.Sprintf("New Author %d", c.random.IntN(100_000)), 1940+c.random.IntN(60))
		exec("INSERT INTO works (title, author_id, audience, subjects) VALUES (?, LAST_INSERT_ID(), ?, 'travel,music')", fmt.Sprintf("A New Work %d", c.random.IntN(100_000)), 1+c.random.IntN(3))
	}
	if err != nil {
		return err
	}
	return tx.Commit()
}

// prepareCatalogue starts the MariaDB server, fills it, and makes the login that captures
// it.
func (s *stage) prepareCatalogue(ctx context.Context) error {
	if err := s.maria.Start(ctx); err != nil {
		return err
	}
	if err := s.maria.Login(ctx, "rillmark_capture", "REPLICATION SLAVE, BINLOG MONITOR, REPLICATION MASTER ADMIN ON *.*", "SELECT, LOCK TABLES, REFERENCES ON "+catalogueDatabase+".*"); err != nil {
		return err
	}
	admin, err := s.maria.Connect(ctx, "")
	if err != nil {
		return err
	}
	defer admin.Close() //nolint:errcheck // nothing is open on it
	if _, err := admin.ExecContext(ctx, "CREATE DATABASE IF NOT EXISTS "+catalogueDatabase+" CHARACTER SET utf8mb4"); err != nil {
		return err
	}
	if s.mariaDB, err = s.maria.Connect(ctx, catalogueDatabase); err != nil {
		return err
	}
	var tables int
	if err := s.mariaDB.QueryRowContext(ctx, "SELECT count(*) FROM information_schema.tables WHERE table_schema = ?", catalogueDatabase).Scan(&tables); err != nil {
		return err
	}
	s.catalogue = NewCatalogue(s.mariaDB, seed+uint64(time.Now().UnixNano()))
	if tables > 0 {
		return nil
	}
	s.say("filling the catalogue's tables …")
	return s.catalogue.Fill(ctx)
}

// catalogueDefinition is the second source's, as a person would keep it in a file.
func (s *stage) catalogueDefinition() string {
	return fmt.Sprintf(`# The demo's second source: the catalogue, on a MariaDB server.
engine: mariadb
connection:
  host: 127.0.0.1
  port: %d
  user: rillmark_capture
  password: ${file:%s}
  tls: disable
tables:
  - match: catalogue.*
    after_rewrite: reload
`, s.maria.Port, s.maria.PasswordFile())
}
