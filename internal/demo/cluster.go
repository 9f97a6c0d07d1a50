package demo

import (
	"bytes"
	"context"
	"crypto/rand"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"net"
	"os"
	"os/exec"
	"os/user"
	"path/filepath"
	"sort"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/jackc/pgx/v5"
)

// Cluster is a PostgreSQL server of our own: its data below Folder, listening on
// loopback. PostgreSQL refuses to run as root; under root it runs as the user
// postgres, or nobody.
type Cluster struct {
	// Folder holds data, socket and log. It is made where it is missing.
	Folder string
	Port   int
	// Settings go to the server on its command line.
	Settings map[string]string
	// Programs is the folder of the server's; empty for the newest that Debian installed.
	Programs string

	command *exec.Cmd
	ended   chan struct{}
	exit    error
}

// binaries is the folder of the newest PostgreSQL server that Debian installed.
func binaries() (string, error) {
	found, err := filepath.Glob("/usr/lib/postgresql/*/bin/postgres")
	if err != nil {
		return "", err
	}
	best, version := "", 0
	for _, f := range found {
		folder := filepath.Dir(f)
		if n, err := strconv.Atoi(filepath.Base(filepath.Dir(folder))); err == nil && n > version {
			best, version = folder, n
		}
	}
	if version < 15 {
		return "", errors.New("no PostgreSQL server of version 15 or later is installed: `sh scripts/setup.sh`, or apt-get install postgresql, brings one")
	}
	return best, nil
}

// account is whom a server runs as, the first of some users that is there; nil for
// ourselves.
func account(names ...string) (*syscall.Credential, error) {
	if os.Geteuid() != 0 {
		return nil, nil
	}
	for _, name := range names {
		u, err := user.Lookup(name)
		if err != nil {
			continue
		}
		uid, err1 := strconv.ParseUint(u.Uid, 10, 32)
		gid, err2 := strconv.ParseUint(u.Gid, 10, 32)
		if err1 == nil && err2 == nil {
			return &syscall.Credential{Uid: uint32(uid), Gid: uint32(gid)}, nil
		}
	}
	return nil, fmt.Errorf("a database server refuses to run as root, and there is no user %s to run it as", strings.Join(names, " or "))
}

// Housing is where below folder a server's data can lie: folder itself, unless
// the user that the server runs as may not enter it, as under a home that is
// closed to others. Then it is a folder of its own below /var/tmp.
func Housing(folder string) (string, error) {
	who, err := account("postgres", "nobody")
	if err != nil || who == nil || enterable(folder, who) {
		return folder, err
	}
	sum := sha256.Sum256([]byte(folder))
	elsewhere := "/var/tmp/rillmark-" + hex.EncodeToString(sum[:6])
	var info syscall.Stat_t
	if err := syscall.Lstat(elsewhere, &info); err == nil && int(info.Uid) != os.Geteuid() {
		return "", fmt.Errorf("%s belongs to somebody else: choose another folder with --folder, one that the user %d may enter", elsewhere, who.Uid)
	}
	return elsewhere, nil
}

// enterable reports whether a user may go into a folder, as far as it exists.
func enterable(folder string, who *syscall.Credential) bool {
	for at := folder; ; at = filepath.Dir(at) {
		var info syscall.Stat_t
		if err := syscall.Stat(at, &info); err == nil {
			bit := uint32(0o001)
			switch {
			case info.Uid == who.Uid:
				bit = 0o100
			case info.Gid == who.Gid:
				bit = 0o010
			}
			if info.Mode&bit == 0 {
				return false
			}
		}
		if at == filepath.Dir(at) {
			return true
		}
	}
}

func (c *Cluster) data() string { return filepath.Join(c.Folder, "data") }

// PasswordFile holds the superuser's password, for us alone.
func (c *Cluster) PasswordFile() string { return filepath.Join(c.Folder, "password") }

// Start makes the cluster if it is not there, starts it, and waits until it
// answers. It stops by itself when this process dies.
func (c *Cluster) Start(ctx context.Context) error {
	bin, err := c.Programs, error(nil)
	if bin == "" {
		bin, err = binaries()
	}
	if err != nil {
		return err
	}
	who, err := account("postgres", "nobody")
	if err != nil {
		return err
	}
	if err := portFree(c.Port); err != nil {
		return err
	}
	if err := os.MkdirAll(c.Folder, 0o755); err != nil {
		return err
	}
	if _, err := os.Stat(filepath.Join(c.data(), "PG_VERSION")); err != nil {
		if err := c.initialize(ctx, bin, who); err != nil {
			return err
		}
	}
	log, err := os.OpenFile(filepath.Join(c.Folder, "server.log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	defer log.Close() //nolint:errcheck // the server has its own copy
	args := []string{"-D", c.data(), "-p", strconv.Itoa(c.Port), "-k", c.data(), "-c", "listen_addresses=127.0.0.1"}
	for name, value := range c.Settings {
		args = append(args, "-c", name+"="+value)
	}
	for attempt := 0; ; attempt++ {
		err = c.launch(ctx, filepath.Join(bin, "postgres"), args, log, who)
		// The children of a server that was killed take a moment to notice.
		if err == nil || attempt == 50 || !c.endedSaying("pre-existing shared memory block") {
			return err
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-time.After(100 * time.Millisecond):
		}
	}
}

// endedSaying reports whether the server has ended at once, with a text among the last
// lines of its log.
func (c *Cluster) endedSaying(text string) bool {
	select {
	case <-c.ended:
		tail, _ := os.ReadFile(filepath.Join(c.Folder, "server.log"))
		return strings.Contains(string(tail[max(0, len(tail)-800):]), text)
	default:
		return false
	}
}

// launch starts the server's process and waits until it answers.
func (c *Cluster) launch(ctx context.Context, binary string, args []string, log *os.File, who *syscall.Credential) error {
	c.command = exec.Command(binary, args...)
	c.command.Stdout, c.command.Stderr, c.command.Dir = log, log, c.data()
	// Its own process group: a Ctrl-C is ours to handle, in order.
	c.command.SysProcAttr = &syscall.SysProcAttr{Credential: who, Setpgid: true, Pdeathsig: syscall.SIGINT}
	if err := c.command.Start(); err != nil {
		return fmt.Errorf("starting PostgreSQL: %w", err)
	}
	ended := make(chan struct{})
	c.ended = ended
	command := c.command
	go func() {
		c.exit = command.Wait()
		close(ended)
	}()
	return c.wait(ctx)
}

func (c *Cluster) initialize(ctx context.Context, bin string, who *syscall.Credential) error {
	if err := os.MkdirAll(c.data(), 0o700); err != nil {
		return err
	}
	var secret [18]byte
	rand.Read(secret[:]) // never fails
	password := hex.EncodeToString(secret[:])
	if err := os.WriteFile(c.PasswordFile(), []byte(password+"\n"), 0o600); err != nil {
		return err
	}
	if who != nil {
		if err := os.Chmod(c.Folder, 0o755); err != nil {
			return err
		}
		if err := os.Chown(c.data(), int(who.Uid), int(who.Gid)); err != nil {
			return err
		}
	}
	read, write, err := os.Pipe() // the server's user may not read our password file
	if err != nil {
		return err
	}
	defer read.Close() //nolint:errcheck // it was only read
	if _, err := write.WriteString(password + "\n"); err != nil {
		return err
	}
	write.Close() //nolint:errcheck // what was written is in the pipe
	command := exec.CommandContext(ctx, filepath.Join(bin, "initdb"), "-D", c.data(), "-U", "postgres", "-E", "UTF8", "--locale=C.UTF-8",
		"--auth=scram-sha-256", "--pwfile=/dev/fd/3", "--no-sync")
	command.SysProcAttr = &syscall.SysProcAttr{Credential: who}
	command.ExtraFiles = []*os.File{read}
	command.Dir = c.data()
	if who != nil {
		if err := read.Chown(int(who.Uid), int(who.Gid)); err != nil {
			return err
		}
	}
	if out, err := command.CombinedOutput(); err != nil {
		return fmt.Errorf("making a database cluster in %s (may the user that PostgreSQL runs as enter that folder?): %w\n%s", c.data(), err, bytes.TrimSpace(out))
	}
	return nil
}

// wait waits until the server answers.
func (c *Cluster) wait(ctx context.Context) error {
	deadline := time.Now().Add(60 * time.Second)
	for {
		conn, err := c.Connect(ctx, "postgres")
		if err == nil {
			return conn.Close(ctx)
		}
		if time.Now().After(deadline) {
			return fmt.Errorf("PostgreSQL on port %d does not answer: %w", c.Port, err)
		}
		select {
		case <-ctx.Done():
			return context.Cause(ctx)
		case <-c.ended:
			tail, _ := os.ReadFile(filepath.Join(c.Folder, "server.log"))
			return fmt.Errorf("PostgreSQL ended at once: %w\n%s", c.exit, tail[max(0, len(tail)-800):])
		case <-time.After(30 * time.Millisecond):
		}
	}
}

// passLines are the lines of a password file: over loopback, and over the socket.
func passLines(password string) string {
	return "127.0.0.1:*:*:*:" + password + "\nlocalhost:*:*:*:" + password + "\n"
}

func portFree(port int) error {
	// A process that is started meanwhile would have the probe's socket until it runs.
	syscall.ForkLock.RLock()
	defer syscall.ForkLock.RUnlock()
	l, err := net.Listen("tcp", net.JoinHostPort("127.0.0.1", strconv.Itoa(port)))
	if err != nil {
		return fmt.Errorf("port %d is taken by another program: stop that one (`ss -ltnp sport = :%d` names it), or choose other ports with --port", port, port)
	}
	return l.Close()
}

// Address is a connection string for a database, as the superuser; the password
// is not in it but in a file that it names.
func (c *Cluster) Address(database string) string { return c.AddressAs("postgres", database) }

// AddressAs is the same for another user.
func (c *Cluster) AddressAs(user, database string) string {
	return fmt.Sprintf("host=127.0.0.1 port=%d dbname=%s user=%s sslmode=disable passfile='%s'", c.Port, database, user, c.PassFile())
}

// SocketAddressAs is [Cluster.AddressAs] over the server's socket in the file system, which
// costs both ends less than loopback.
func (c *Cluster) SocketAddressAs(user, database string) string {
	return fmt.Sprintf("host='%s' port=%d dbname=%s user=%s sslmode=disable passfile='%s'", c.data(), c.Port, database, user, c.PassFile())
}

// PassFile is a file of the form that psql reads, with the superuser's password
// for every user that [Cluster.Role] makes.
func (c *Cluster) PassFile() string { return filepath.Join(c.Folder, "pgpass") }

// Connect opens a session as the superuser.
func (c *Cluster) Connect(ctx context.Context, database string) (*pgx.Conn, error) {
	password, err := os.ReadFile(c.PasswordFile())
	if err != nil {
		return nil, err
	}
	if err := writeWhole(c.PassFile(), passLines(strings.TrimSpace(string(password)))); err != nil {
		return nil, err
	}
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	return pgx.Connect(ctx, c.Address(database))
}

// writeWhole writes a file that others may read meanwhile: they find all of it.
func writeWhole(name, content string) error {
	if now, err := os.ReadFile(name); err == nil && string(now) == content {
		return nil
	}
	file, err := os.CreateTemp(filepath.Dir(name), filepath.Base(name)+"-*") // for its owner alone
	if err != nil {
		return err
	}
	_, err = file.WriteString(content)
	if closed := file.Close(); err == nil {
		err = closed
	}
	if err == nil {
		err = os.Rename(file.Name(), name)
	}
	if err != nil {
		os.Remove(file.Name()) //nolint:errcheck // the first error is the one to tell
	}
	return err
}

// Role makes a role that can log in with the superuser's password, unless there
// is one.
func (c *Cluster) Role(ctx context.Context, name, attributes string) error {
	return c.with(ctx, "postgres", func(conn *pgx.Conn) error {
		var there bool
		if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_roles WHERE rolname = $1)", name).Scan(&there); err != nil || there {
			return err
		}
		password, err := os.ReadFile(c.PasswordFile())
		if err != nil {
			return err
		}
		_, err = conn.Exec(ctx, "CREATE ROLE "+pgx.Identifier{name}.Sanitize()+" LOGIN "+attributes+" PASSWORD '"+strings.TrimSpace(string(password))+"'")
		return err
	})
}

// Database makes a database, unless there is one; made says which.
func (c *Cluster) Database(ctx context.Context, name, owner string) (made bool, err error) {
	err = c.with(ctx, "postgres", func(conn *pgx.Conn) error {
		var there bool
		if err := conn.QueryRow(ctx, "SELECT EXISTS (SELECT FROM pg_database WHERE datname = $1)", name).Scan(&there); err != nil || there {
			return err
		}
		made = true
		_, err := conn.Exec(ctx, "CREATE DATABASE "+pgx.Identifier{name}.Sanitize()+" OWNER "+pgx.Identifier{owner}.Sanitize())
		return err
	})
	return made, err
}

func (c *Cluster) with(ctx context.Context, database string, f func(*pgx.Conn) error) error {
	conn, err := c.Connect(ctx, database)
	if err != nil {
		return err
	}
	defer conn.Close(context.WithoutCancel(ctx)) //nolint:errcheck // nothing is open on it
	return f(conn)
}

// Stop asks the server to end, sessions or not, and waits.
func (c *Cluster) Stop() { c.end(syscall.SIGINT) }

// Kill ends the server as a crash would, all of its processes, and waits.
func (c *Cluster) Kill() { c.end(syscall.SIGKILL) }

func (c *Cluster) end(signal syscall.Signal) {
	if c.command == nil {
		return
	}
	if signal == syscall.SIGKILL {
		c.command.Process.Signal(syscall.SIGSTOP) //nolint:errcheck // it starts no other meanwhile
		// The server's other processes are in its group; some have groups of
		// their own and go when the first one has gone.
		for _, pid := range children(c.command.Process.Pid) {
			syscall.Kill(pid, syscall.SIGKILL) //nolint:errcheck // it may have gone
		}
	}
	c.command.Process.Signal(signal) //nolint:errcheck // it may have gone
	select {
	case <-c.ended:
	case <-time.After(20 * time.Second):
		c.command.Process.Kill() //nolint:errcheck // it may have gone
		<-c.ended
	}
	c.command = nil
	for try := 0; try < 100 && portFree(c.Port) != nil; try++ {
		<-time.After(20 * time.Millisecond) // what was begun on its socket has not ended yet
	}
}

// children lists the processes that a process has started.
func children(pid int) []int {
	raw, err := os.ReadFile(fmt.Sprintf("/proc/%d/task/%d/children", pid, pid))
	if err != nil {
		return nil
	}
	var pids []int
	for _, field := range strings.Fields(string(raw)) {
		if n, err := strconv.Atoi(field); err == nil {
			pids = append(pids, n)
		}
	}
	sort.Ints(pids)
	return pids
}
