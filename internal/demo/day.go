package demo

import (
	"context"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"time"

	"github.com/go-sql-driver/mysql"
	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// catalogueEvery is how many steps of circulation one of the catalogue comes after.
const catalogueEvery = 10

// day plays until ctx is done.
func (s *stage) day(ctx context.Context) error {
	ticker := time.NewTicker(time.Second / time.Duration(s.Rate))
	defer ticker.Stop()
	circulation, catalogue := writer{name: "circulation"}, writer{name: "catalogue"}
	for n := 1; ; n++ {
		select {
		case <-ctx.Done():
			return nil
		case <-s.serviceEnded:
			return fmt.Errorf("the service has ended; see %s", filepath.Join(s.Folder, "service.log"))
		case <-ticker.C:
			circulation.step(ctx, s, func() error {
				if s.db.IsClosed() {
					conn, err := pgx.Connect(ctx, s.source.AddressAs("library", sourceName))
					if err != nil {
						return err
					}
					s.db, s.library.conn = conn, conn
				}
				_, err := s.library.Step(ctx)
				return err
			})
			if n%catalogueEvery == 0 {
				catalogue.step(ctx, s, func() error { return s.catalogue.Step(ctx) })
			}
		}
	}
}

// writer plays one database's part of the working day. Whoever tries things out on the
// databases may take a table away from it, or keep it out as a cut over does: it says so
// once, and plays what it can.
type writer struct {
	name  string
	out   bool // its database takes no changes, or does not answer
	again time.Time
	said  map[string]bool
}

// mostSaid bounds how many different failures a writer tells of.
const mostSaid = 20

func (w *writer) step(ctx context.Context, s *stage, play func() error) {
	if time.Now().Before(w.again) {
		return
	}
	err := play()
	switch {
	case ctx.Err() != nil:
	case err == nil && w.out:
		s.say("%s takes changes again", w.name)
		w.out = false
	case err == nil:
	case unfit(err):
		if text := err.Error(); !w.said[text] && len(w.said) < mostSaid {
			if w.said == nil {
				w.said = make(map[string]bool)
			}
			w.said[text] = true
			s.say("%s: a step of the working day failed and is left out: %v", w.name, err)
		}
	default:
		if !w.out {
			s.say("%s takes no changes now; the working day there waits (%v)", w.name, err)
		}
		w.out, w.again = true, time.Now().Add(time.Second)
		if w.name == "circulation" {
			s.db.Close(context.Background()) //nolint:errcheck // a session keeps being read-only
		}
	}
}

// unfit reports whether one statement does not fit its tables any more; others may.
func unfit(err error) bool {
	var postgres *pgconn.PgError
	if errors.As(err, &postgres) {
		return slices.Contains([]string{"21", "22", "23", "42"}, postgres.Code[:2]) // SQL's classes of what is wrong with a statement
	}
	const readOnly, tooManySessions, shutdown = 1290, 1040, 1053
	var mariadb *mysql.MySQLError
	return errors.As(err, &mariadb) && !slices.Contains([]uint16{readOnly, tooManySessions, shutdown}, mariadb.Number)
}
