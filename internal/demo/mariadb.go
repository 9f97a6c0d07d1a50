package demo

import (
	"bytes"
	"context"
	"crypto/rand"
	"database/sql"
	"encoding/hex"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/go-sql-driver/mysql"
)

// MariaDB is a MariaDB server of our own, like [Cluster]: its data below Folder, listening
// on loopback. Under root it runs as the user mysql, or nobody.
type MariaDB struct {
	// Folder holds data, socket and log. It is made where it is missing.
	Folder string
	Port   int
	// Settings go to the server on its command line.
	Settings map[string]string

	command *exec.Cmd
	ended   chan struct{}
	exit    error
}

// mariadbSettings are those of a server whose log can be captured.
var mariadbSettings = map[string]string{"log-bin": "binlog", "binlog-format": "ROW", "binlog-row-image": "FULL", "binlog-row-metadata": "FULL", "server-id": "1", "sync-binlog": "1", "binlog-expire-logs-seconds": "604800"}

func (m *MariaDB) data() string { return filepath.Join(m.Folder, "data") }

// temporary is a folder of the server's own: one that starts clears the temporary tables
// of another that has the same.
func (m *MariaDB) temporary() string { return filepath.Join(m.Folder, "tmp") }

// PasswordFile holds the administrator's password, for us alone.
func (m *MariaDB) PasswordFile() string { return filepath.Join(m.Folder, "password") }

// Password is the administrator's.
func (m *MariaDB) Password() (string, error) {
	raw, err := os.ReadFile(m.PasswordFile())
	return strings.TrimSpace(string(raw)), err
}

// LogFile is the server's own log of what it does.
func (m *MariaDB) LogFile() string { return filepath.Join(m.Folder, "server.log") }

// Start makes the server's data where they are not there, starts it, and waits until it
// answers. It stops by itself when this process dies.
func (m *MariaDB) Start(ctx context.Context) error {
	binary := "/usr/sbin/mariadbd"
	if _, err := os.Stat(binary); err != nil {
		return errors.New("no MariaDB server is installed: `sh scripts/setup.sh`, or apt-get install mariadb-server, brings one")
	}
	who, err := account("mysql", "nobody")
	if err != nil {
		return err
	}
	if err := portFree(m.Port); err != nil {
		return err
	}
	if err := os.MkdirAll(m.Folder, 0o755); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(m.data(), "mysql")); err != nil {
		if err := m.initialize(ctx, who); err != nil {
			return err
		}
	}
	log, err := os.OpenFile(m.LogFile(), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close() //nolint:errcheck // the server has its own copy
	args := []string{"--no-defaults", "--datadir=" + m.data(), "--port=" + strconv.Itoa(m.Port), "--bind-address=127.0.0.1", "--socket=" + filepath.Join(m.data(), "s"), "--pid-file=" + filepath.Join(m.data(), "pid"), "--tmpdir=" + m.temporary(),
		"--skip-name-resolve", "--character-set-server=utf8mb4", "--innodb-buffer-pool-size=64M"}
	for name, value := range mariadbSettings {
		if _, other := m.Settings[name]; !other {
			args = append(args, "--"+name+"="+value)
		}
	}
	for name, value := range m.Settings {
		if value == "" {
			args = append(args, "--"+name)
		} else {
			args = append(args, "--"+name+"="+value)
		}
	}
	m.command = exec.Command(binary, args...)
	m.command.Stdout, m.command.Stderr, m.command.Dir = log, log, m.data()
	m.command.SysProcAttr = &syscall.SysProcAttr{Credential: who, Setpgid: true, Pdeathsig: syscall.SIGTERM}
	if err := m.command.Start(); err != nil {
		return fmt.Errorf("starting MariaDB: %w", err)
	}
	ended, command := make(chan struct{}), m.command
	m.ended = ended
	go func() {
		m.exit = command.Wait()
		close(ended)
	}()
	return m.wait(ctx)
}

func (m *MariaDB) initialize(ctx context.Context, who *syscall.Credential) error {
	for _, folder := range []string{m.data(), m.temporary()} {
		if err := os.MkdirAll(folder, 0o700); err != nil {
			return err
		}
		if who == nil {
			continue
		}
		if err := os.Chmod(m.Folder, 0o755); err != nil {
			return err
		}
		if err := os.Chown(folder, int(who.Uid), int(who.Gid)); err != nil {
			return err
		}
	}
	command := exec.CommandContext(ctx, "mariadb-install-db", "--no-defaults", "--datadir="+m.data(), "--auth-root-authentication-method=normal", "--skip-test-db", "--skip-name-resolve", "--tmpdir="+m.temporary())
	command.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	command.Dir = m.data()
	if out, err := command.CombinedOutput(); err != nil {
		return fmt.Errorf("making a MariaDB server's data in %s (may the user that it runs as enter that folder?): %w\n%s", m.data(), err, bytes.TrimSpace(out))
	}
	return nil
}

// wait waits until the server answers, and gives its administrator a password the first time.
func (m *MariaDB) wait(ctx context.Context) error {
	deadline := time.Now().Add(60 * time.Second)
	for {
		err := m.prepare(ctx)
		if err == nil {
			return nil
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("MariaDB on port %d does not answer: %w", m.Port, err)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-m.ended:
			tail, _ := os.ReadFile(m.LogFile())
			return fmt.Errorf("MariaDB ended at once: %w\n%s", m.exit, tail[max(0, len(tail)-800):])
		case <-time.After(30 * time.Millisecond):
		}
	}
}

func (m *MariaDB) prepare(ctx context.Context) error {
	if _, err := os.Stat(m.PasswordFile()); err == nil {
		db, err := m.Connect(ctx, "")
		if err != nil {
			return err
		}
		return db.Close()
	}
	db, err := m.open(ctx, "", "")
	if err != nil {
		return err
	}
	defer db.Close() //nolint:errcheck // nothing is open on it
	var secret [18]byte
	rand.Read(secret[:]) // never fails
	password := hex.EncodeToString(secret[:])
	if _, err := db.ExecContext(ctx, "SET STATEMENT sql_log_bin = 0 FOR ALTER USER root@localhost IDENTIFIED BY '"+password+"'"); err != nil {
		return err
	}
	return os.WriteFile(m.PasswordFile(), []byte(password+"\n"), 0o600)
}

// open is a pool of sessions as the administrator.
func (m *MariaDB) open(ctx context.Context, password, database string) (*sql.DB, error) {
	config := mysql.NewConfig()
	config.User, config.Passwd, config.DBName = "root", password, database
	config.Net, config.Addr = "unix", filepath.Join(m.data(), "s")
	config.MultiStatements, config.Logger = true, &mysql.NopLogger{}
	connector, err := mysql.NewConnector(config)
	if err != nil {
		return nil, err
	}
	db := sql.OpenDB(connector)
	if err := db.PingContext(ctx); err != nil {
		db.Close() //nolint:errcheck // the first error is the one to report
		return nil, err
	}
	return db, nil
}

// Connect opens a pool of sessions as the administrator.
func (m *MariaDB) Connect(ctx context.Context, database string) (*sql.DB, error) {
	password, err := m.Password()
	if err != nil {
		return nil, err
	}
	return m.open(ctx, password, database)
}

// Login makes a user with the administrator's password, unless there is one, and grants it
// rights such as "SELECT ON lib.*".
func (m *MariaDB) Login(ctx context.Context, name string, grants ...string) error {
	password, err := m.Password()
	if err != nil {
		return err
	}
	db, err := m.open(ctx, password, "")
	if err != nil {
		return err
	}
	defer db.Close() //nolint:errcheck // nothing is open on it
	statements := []string{"CREATE USER IF NOT EXISTS " + name + "@'%' IDENTIFIED BY '" + password + "'"}
	for _, g := range grants {
		statements = append(statements, "GRANT "+g+" TO "+name+"@'%'")
	}
	for _, s := range statements {
		if _, err := db.ExecContext(ctx, s); err != nil {
			return err
		}
	}
	return nil
}

// Stop asks the server to end and waits, Kill ends it as a crash would.
func (m *MariaDB) Stop() { m.end(syscall.SIGTERM) }

// Kill ends the server as a crash would, and waits.
func (m *MariaDB) Kill() { m.end(syscall.SIGKILL) }

func (m *MariaDB) end(signal syscall.Signal) {
	if m.command == nil {
		return
	}
	m.command.Process.Signal(signal) //nolint:errcheck // it may have gone
	select {
	case <-m.ended:
	case <-time.After(30 * time.Second):
		m.command.Process.Kill() //nolint:errcheck // it may have gone
		<-m.ended
	}
	m.command = nil
}
