package demo

import (
	"context"
	"database/sql"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/jackc/pgx/v5/pgconn"
)

// Options are the demo's.
type Options struct {
	Out, Err io.Writer
	// Folder keeps databases, configuration and delivered files.
	Folder string
	// Port is the service's; the state database takes the next, then come the
	// source, the broker and the function.
	Port int
	// Rate is transactions a second.
	Rate int
	// Example runs a scripted minute instead of a day.
	Example bool
}

const (
	sourceName  = "circulation"
	archiveName = "archive"
	deskName    = "desk"
	hubName     = "hub"     // a broker of the Kafka protocol
	noticeName  = "notices" // an HTTP function that sends notices to readers
	lakeName    = "lake"    // Parquet files

	catalogueName = "catalogue"    // the second source
	worksName     = "works"        // its tables, to the broker
	feedName      = "feed"         // what is new, of both sources
	feedTopic     = "library.feed" // the one topic it goes to
	reportingName = "reporting"    // a database with the tables of both sources
	scratchName   = "scratch"      // an empty database, to try statements in
	seed          = 20261123
)

// stage is all that the demo has started.
type stage struct {
	Options
	state, source *Cluster
	address       string // of the service
	binary        string
	service       *exec.Cmd
	serviceEnded  chan struct{}
	standIns      []*exec.Cmd
	db            *pgx.Conn // to the source, as the library's owner
	library       *Library
	// The second source, of which the example has none.
	maria     *MariaDB
	scratch   *MariaDB
	mariaDB   *sql.DB // to the catalogue, as an administrator
	catalogue *Catalogue
}

// longestFolder is the longest path, in bytes, of a folder in which the servers' sockets have
// paths that every kernel takes: 104 bytes with the longest of them,
// source/data/.s.PGSQL.65535, and its end.
const longestFolder = 75

// Run starts everything, plays, and stops everything when ctx is done.
func Run(ctx context.Context, o Options) error {
	if o.Rate < 1 || o.Rate > 5000 {
		return fmt.Errorf("--rate %d: from 1 to 5000 transactions a second can be played", o.Rate)
	}
	binary, err := os.Executable()
	if err != nil {
		return err
	}
	if o.Folder, err = filepath.Abs(o.Folder); err != nil {
		return err
	}
	if len(o.Folder) > longestFolder {
		return fmt.Errorf("the folder %s has a path of %d bytes, and the servers' sockets in it take one of %d at most: choose another one with --folder", o.Folder, len(o.Folder), longestFolder)
	}
	s := &stage{Options: o, binary: binary, address: "http://" + net.JoinHostPort("127.0.0.1", strconv.Itoa(o.Port))}
	defer s.stop()
	if err := s.start(ctx); err != nil {
		if ctx.Err() != nil {
			return nil
		}
		return err
	}
	if o.Example {
		return s.example(ctx)
	}
	s.welcome()
	err = s.day(ctx)
	if ctx.Err() != nil {
		s.say("\nstopping; the data stays in %s for the next start", s.Folder)
		return nil
	}
	return err
}

func (s *stage) say(format string, args ...any) {
	fmt.Fprintf(s.Out, format+"\n", args...) //nolint:errcheck // a closed terminal
}

func (s *stage) start(ctx context.Context) error {
	for _, port := range []int{s.Port, s.Port + 3, s.Port + 4, s.Port + 5} {
		if err := portFree(port); err != nil {
			return err
		}
	}
	if err := os.MkdirAll(s.Folder, 0o755); err != nil {
		return err
	}
	housing, err := Housing(s.Folder)
	if err != nil {
		return err
	}
	if housing != s.Folder {
		s.say("the databases lie in %s: the user that PostgreSQL runs as may not enter %s", housing, s.Folder)
	}
	s.say("starting two PostgreSQL servers on ports %d (state) and %d (source) …", s.Port+1, s.Port+2)
	s.state = &Cluster{Folder: filepath.Join(housing, "state"), Port: s.Port + 1, Settings: map[string]string{"max_connections": "60"}}
	s.source = &Cluster{Folder: filepath.Join(housing, "source"), Port: s.Port + 2, Settings: map[string]string{"wal_level": "logical", "max_replication_slots": "8"}}
	for _, c := range []*Cluster{s.state, s.source} {
		if err := c.Start(ctx); err != nil {
			return err
		}
	}
	if err := s.state.Role(ctx, "rillmark", ""); err != nil {
		return err
	}
	if _, err := s.state.Database(ctx, "rillmark", "rillmark"); err != nil {
		return err
	}
	if err := s.prepareReporting(ctx); err != nil {
		return err
	}
	if err := s.prepareScratch(ctx); err != nil {
		return err
	}
	if err := s.prepareSource(ctx); err != nil {
		return err
	}
	if !s.Example {
		s.say("starting a MariaDB server on port %d (the catalogue) …", s.Port+5)
		s.maria = &MariaDB{Folder: filepath.Join(housing, "catalogue"), Port: s.Port + 5}
		if err := s.prepareCatalogue(ctx); err != nil {
			return err
		}
	}
	s.say("starting stand-ins for a broker (port %d) and an HTTP function (port %d) …", s.Port+3, s.Port+4)
	if err := s.startStandIns(ctx); err != nil {
		return err
	}
	s.say("starting the service on port %d …", s.Port)
	if err := s.configure(); err != nil {
		return err
	}
	if err := s.startService(ctx); err != nil {
		return err
	}
	return s.define(ctx)
}

// prepareReporting makes the database that the tables are kept in.
func (s *stage) prepareReporting(ctx context.Context) error {
	if err := s.state.Role(ctx, reportingName, ""); err != nil {
		return err
	}
	if _, err := s.state.Database(ctx, reportingName, reportingName); err != nil {
		return err
	}
	return s.state.with(ctx, reportingName, func(conn *pgx.Conn) error {
		_, err := conn.Exec(ctx, "GRANT SET ON PARAMETER session_replication_role TO "+reportingName)
		var refused *pgconn.PgError
		if errors.As(err, &refused) && refused.Code == "42601" {
			return nil // before version 15 nobody but a superuser may: triggers fire
		}
		return err
	})
}

// prepareSource makes the library's database and the login that captures it.
func (s *stage) prepareSource(ctx context.Context) error {
	for name, attributes := range map[string]string{"library": "", "rillmark_capture": "REPLICATION"} {
		if err := s.source.Role(ctx, name, attributes); err != nil {
			return err
		}
	}
	if _, err := s.source.Database(ctx, sourceName, "library"); err != nil {
		return err
	}
	if err := s.source.with(ctx, sourceName, func(conn *pgx.Conn) error {
		// As a member of the owner's role the login may read and publish its tables. A cut
		// over may have left the database without writers.
		if _, err := conn.Exec(ctx, "SET default_transaction_read_only = off"); err != nil {
			return err
		}
		_, err := conn.Exec(ctx, "GRANT library TO rillmark_capture; GRANT CREATE ON DATABASE "+sourceName+" TO rillmark_capture; GRANT CREATE ON SCHEMA public TO library")
		return err
	}); err != nil {
		return err
	}
	var err error
	if s.db, err = pgx.Connect(ctx, s.source.AddressAs("library", sourceName)); err != nil {
		return err
	}
	s.library = NewLibrary(s.db, seed+uint64(time.Now().UnixNano()))
	var filled bool
	if err := s.db.QueryRow(ctx, "SELECT to_regclass('public.loans') IS NOT NULL").Scan(&filled); err != nil {
		return err
	}
	if filled {
		s.say("the library's tables are there from an earlier start")
		return nil
	}
	s.say("filling the library's circulation tables …")
	return NewLibrary(s.db, seed).Fill(ctx)
}

func (s *stage) configure() error {
	text := fmt.Sprintf(`# Made by the demo; made anew at each start.
listen: 127.0.0.1:%d
state_database: "%s"
key_file: %s
files_root: %s
# All of the demo is on this machine: its databases, its function, its bucket.
network:
  local: [all]
secrets:
  folders: [%s]
%s`, s.Port, s.state.SocketAddressAs("rillmark", "rillmark"), filepath.Join(s.Folder, "rillmark.key"), filepath.Join(s.Folder, "delivered"), s.Folder, s.scratchDatabases())
	return os.WriteFile(s.configFile(), []byte(text), 0o600)
}

func (s *stage) configFile() string { return filepath.Join(s.Folder, "rillmark.yaml") }

func (s *stage) startService(ctx context.Context) error {
	log, err := os.OpenFile(filepath.Join(s.Folder, "service.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close() //nolint:errcheck // the service has its own copy
	s.service = exec.Command(s.binary, "serve", "--config", s.configFile())
	s.service.Stdout, s.service.Stderr = log, log
	s.service.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
	if err := s.service.Start(); err != nil {
		return err
	}
	ended := make(chan struct{})
	s.serviceEnded = ended
	command := s.service
	go func() {
		command.Wait() //nolint:errcheck // its log has the error
		close(ended)
	}()
	for deadline := time.Now().Add(30 * time.Second); ; {
		if _, err := s.client(ctx, "version", "--json"); err == nil && s.ready(ctx) {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("the service does not answer; see %s", log.Name())
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-ended:
			return fmt.Errorf("the service ended at once; see %s", log.Name())
		case <-time.After(50 * time.Millisecond):
		}
	}
}

// startStandIns starts what the demo delivers to, each as a process of its own.
func (s *stage) startStandIns(ctx context.Context) error {
	for _, args := range [][]string{
		{"broker", "--listen", s.brokerAddress(), "--folder", filepath.Join(s.Folder, "broker")},
		{"function", "--listen", s.functionAddress(), "--into", filepath.Join(s.Folder, "delivered", "function.ndjson")},
	} {
		if err := os.MkdirAll(filepath.Join(s.Folder, "delivered"), 0o755); err != nil {
			return err
		}
		log, err := os.OpenFile(filepath.Join(s.Folder, args[0]+".log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
		if err != nil {
			return err
		}
		command := exec.Command(s.binary, append([]string{"stand-in"}, args...)...)
		command.Stdout, command.Stderr = log, log
		command.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: syscall.SIGTERM}
		err = command.Start()
		log.Close() //nolint:errcheck // the process has its own copy
		if err != nil {
			return err
		}
		s.standIns = append(s.standIns, command)
		if err := answers(ctx, args[2]); err != nil {
			return fmt.Errorf("the stand-in %s does not answer; see %s: %w", args[0], log.Name(), err)
		}
	}
	return nil
}

func (s *stage) brokerAddress() string { return net.JoinHostPort("127.0.0.1", strconv.Itoa(s.Port+3)) }
func (s *stage) functionAddress() string {
	return net.JoinHostPort("127.0.0.1", strconv.Itoa(s.Port+4))
}

// answers waits until something listens.
func answers(ctx context.Context, address string) error {
	for deadline := time.Now().Add(20 * time.Second); ; {
		conn, err := net.DialTimeout("tcp", address, time.Second)
		if err == nil {
			return conn.Close()
		}
		if time.Now().After(deadline) {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(20 * time.Millisecond):
		}
	}
}

func (s *stage) ready(ctx context.Context) bool {
	_, err := s.client(ctx, "status", "--json")
	return err == nil
}

// client runs the client as a person would, and returns what it prints.
func (s *stage) client(ctx context.Context, args ...string) (string, error) {
	command := exec.CommandContext(ctx, s.binary, append([]string{"--server", s.address}, args...)...)
	command.WaitDelay = time.Second
	var errs strings.Builder
	command.Stderr = &errs
	out, err := command.Output()
	if err != nil && errs.Len() > 0 {
		err = errors.New(strings.TrimSpace(errs.String()))
	}
	return string(out), err
}

// definition writes the source's definition as a person would keep it in a file.
func (s *stage) definition() (string, error) {
	file := filepath.Join(s.Folder, sourceName+".yaml")
	return file, os.WriteFile(file, []byte(fmt.Sprintf(`# The source of the demo. docs/rules.md explains each line.
connection:
  host: 127.0.0.1
  port: %d
  database: %s
  user: rillmark_capture
  password: ${file:%s}
  tls: disable
hash_key: only-for-the-demo
tables:
  - match: public.patrons
    description: readers of the library
    columns:
      - {match: email, treat: hash}
      - {match: card_number, treat: mask}
    after_rewrite: reload
  - match: public.loans
    description: what is lent to whom
    priority: 10
    after_rewrite: reload
  - match: public.*
    after_rewrite: reload
`, s.Port+2, sourceName, s.source.PasswordFile())), 0o600)
}

// noticesOutlet sends the rows of a table that are events already.
const noticesOutlet = `# Each row of notices is an event: its body is sent, under its own id and kind.
source: circulation
destination: notices
tables: [public.notices]
operations: [existing, insert]
format: cloudevents-binary
outbox:
  table: public.notices
  id: notice_id
  kind: kind
  subject: subject
  body: body
  time: created_at
description: notices to readers, by the function that sends them
`

// define adds source, destination and outlets where they are not there yet.
func (s *stage) define(ctx context.Context) error {
	file, err := s.definition()
	if err != nil {
		return err
	}
	notices := filepath.Join(s.Folder, noticeName+".yaml")
	if err := os.WriteFile(notices, []byte(noticesOutlet), 0o600); err != nil {
		return err
	}
	catalogue := filepath.Join(s.Folder, catalogueName+".yaml")
	if !s.Example {
		if err := os.WriteFile(catalogue, []byte(s.catalogueDefinition()), 0o600); err != nil {
			return err
		}
	}
	fresh := make(map[string]bool)
	for _, args := range [][]string{
		{"source", "add", sourceName, "--file", file},
		{"destination", "add", archiveName, "--directory", archiveName},
		{"outlet", "add", archiveName, "--source", sourceName, "--destination", archiveName},
		{"outlet", "add", deskName, "--source", sourceName, "--tables", "public.loans", "--tables", "public.holds"},
		{"destination", "add", hubName, "--broker", s.brokerAddress(), "--create-topics", "3"},
		{"outlet", "add", hubName, "--source", sourceName, "--destination", hubName, "--topic", "library.{table|log}"},
		{"destination", "add", noticeName, "--url", "http://" + s.functionAddress() + "/notices", "--sign-key", "whsec_" + base64.StdEncoding.EncodeToString([]byte("a key only for the demo, 32 bytes"))},
		{"outlet", "add", noticeName, "--file", notices},
		{"destination", "add", lakeName, "--directory", lakeName},
		{"outlet", "add", lakeName, "--source", sourceName, "--destination", lakeName, "--format", "parquet", "--rotate-every", "30s"},
		{"source", "add", catalogueName, "--file", catalogue},
		{"outlet", "add", worksName, "--source", catalogueName, "--destination", hubName, "--topic", "library.{table|log}"},
		// Of both sources into one topic: an outlet each.
		{"outlet", "add", feedName, "--source", sourceName, "--destination", hubName, "--topic", feedTopic, "--tables", "public.loans"},
		{"outlet", "add", feedName + "-catalogue", "--source", catalogueName, "--destination", hubName, "--topic", feedTopic, "--tables", "catalogue.works"},
		{"destination", "add", reportingName, "--kind", "postgresql", "--host", "127.0.0.1", "--port", strconv.Itoa(s.Port + 1), "--database-name", reportingName, "--user", reportingName, "--password", "${file:" + s.state.PasswordFile() + "}"},
		{"outlet", "add", reportingName, "--source", sourceName, "--destination", reportingName, "--to-schema", "library"},
		{"outlet", "add", reportingName + "-catalogue", "--source", catalogueName, "--destination", reportingName},
		{"source", "resume", sourceName, "--reason", "the demo begins"},
		{"source", "resume", catalogueName, "--reason", "the demo begins"},
	} {
		if s.Example && (slices.Contains(args, catalogueName) || strings.HasPrefix(args[2], feedName) || args[2] == reportingName) {
			continue
		}
		// What an earlier start defined stays as it is; one that was ended half way is
		// completed.
		if args[1] == "add" {
			if _, err := s.client(ctx, args[0], "show", args[2]); err == nil {
				continue
			}
			if args[0] == "source" {
				fresh[args[2]] = true
			}
		} else if !fresh[args[2]] {
			continue
		}
		if _, err := s.client(ctx, args...); err != nil {
			return fmt.Errorf("rillmark %s: %w", strings.Join(args[:3], " "), err)
		}
	}
	return nil
}

func (s *stage) welcome() {
	tool := s.binary
	if here, err := os.Getwd(); err == nil {
		if short, err := filepath.Rel(here, tool); err == nil && len(short) < len(tool) {
			tool = short
		}
	}
	if s.Port != 7450 {
		tool += " --server " + s.address
	}
	s.say(`
The library's working day runs at %d transactions a second. The console:

    %s

Three commands to try, in another terminal:

    %s watch %s
    %s read %s --limit 5
    PGPASSFILE=%s psql -h 127.0.0.1 -p %d -U library %s \
        -c "UPDATE patrons SET name = 'You' WHERE patron_id = 1"

The second source, %s, is a MariaDB server on port %d. Its works and the first one's
loans go to one topic: an outlet each. Delivered files are in %s: lines of JSON in %s, Parquet
in %s, and what the HTTP function took in function.ndjson. With kcat, the broker:

    kcat -b %s -C -t library.loans -o -3 -e

The database reporting has the tables of both sources, a moment later:

    PGPASSFILE=%s psql -h 127.0.0.1 -p %d -U reporting reporting -c "SELECT count(*) FROM library.loans"

Ctrl-C stops everything.`,
		s.Rate, s.address, tool, sourceName, tool, deskName, s.source.PassFile(), s.Port+2, sourceName, catalogueName, s.maria.Port, filepath.Join(s.Folder, "delivered"), archiveName, lakeName, s.brokerAddress(), s.state.PassFile(), s.Port+1)
}

func (s *stage) stop() {
	if s.db != nil {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		s.db.Close(ctx) //nolint:errcheck // nothing is open on it
		cancel()
	}
	if s.mariaDB != nil {
		s.mariaDB.Close() //nolint:errcheck // nothing is open on it
	}
	s.stopService(syscall.SIGTERM)
	for _, command := range s.standIns {
		command.Process.Signal(syscall.SIGTERM) //nolint:errcheck // it may have gone
		command.Wait()                          //nolint:errcheck // the demo ends
	}
	for _, c := range []*Cluster{s.source, s.state} {
		if c != nil {
			c.Stop()
		}
	}
	for _, m := range []*MariaDB{s.maria, s.scratch} {
		if m != nil {
			m.Stop()
		}
	}
}

func (s *stage) stopService(signal syscall.Signal) {
	if s.service == nil {
		return
	}
	s.service.Process.Signal(signal) //nolint:errcheck // it may have gone
	select {
	case <-s.serviceEnded:
	case <-time.After(12 * time.Second):
		s.service.Process.Kill() //nolint:errcheck // it may have gone
		<-s.serviceEnded
	}
	s.service = nil
}
