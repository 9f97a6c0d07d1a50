package test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"net"
	"net/http"
	"os/exec"
	"path/filepath"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"rillmark/internal/demo"
)

// proxy is a way to a server that misbehaves: it cuts connections, stalls them,
// and passes on small pieces instead of what was sent at once.
type proxy struct {
	listener net.Listener
	target   atomic.Value // its address
	stalled  atomic.Bool
	sliced   atomic.Bool
	logHeld  atomic.Bool   // what comes from and goes to a log of PostgreSQL waits, all else passes
	delay    time.Duration // of what comes from the server; set before it is used
	mu       sync.Mutex
	open     map[net.Conn]bool
	done     sync.WaitGroup
}

func startProxy(t *testing.T, target string) *proxy {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	p := &proxy{listener: l, open: make(map[net.Conn]bool)}
	p.turn(target)
	p.done.Add(1)
	go func() {
		defer p.done.Done()
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			p.done.Add(1)
			go p.serve(conn)
		}
	}()
	t.Cleanup(func() {
		l.Close() //nolint:errcheck // the test is over
		p.stalled.Store(false)
		p.logHeld.Store(false)
		p.cut()
		p.done.Wait()
	})
	return p
}

func (p *proxy) port() int { return p.listener.Addr().(*net.TCPAddr).Port }

// turn leads connections from now on to another address.
func (p *proxy) turn(target string) { p.target.Store(target) }

func (p *proxy) note(conn net.Conn, open bool) {
	p.mu.Lock()
	defer p.mu.Unlock()
	if open {
		p.open[conn] = true
	} else {
		delete(p.open, conn)
	}
}

// cut ends all connections, wherever they are in a message.
func (p *proxy) cut() {
	p.mu.Lock()
	defer p.mu.Unlock()
	for conn := range p.open {
		conn.(*net.TCPConn).SetLinger(0) //nolint:errcheck // it is cut anyway
		conn.Close()                     //nolint:errcheck // it is cut anyway
	}
}

func (p *proxy) serve(client net.Conn) {
	defer p.done.Done()
	defer client.Close() //nolint:errcheck // both ends are done with it
	server, err := net.Dial("tcp", p.target.Load().(string))
	if err != nil {
		return
	}
	defer server.Close() //nolint:errcheck // both ends are done with it
	for _, conn := range []net.Conn{client, server} {
		p.note(conn, true)
		defer p.note(conn, false)
	}
	back := make(chan struct{})
	log := new(atomic.Bool)
	go func() {
		defer close(back)
		p.pass(server, client, log)
		client.Close() //nolint:errcheck // ends the other direction
	}()
	p.pass(client, server, log)
	server.Close() //nolint:errcheck // ends the other direction
	<-back
}

// pass passes on what comes; log is set once it has been seen that a log is asked for.
func (p *proxy) pass(from, to net.Conn, log *atomic.Bool) {
	buf := make([]byte, 64<<10)
	for {
		n, err := from.Read(buf)
		if bytes.Contains(buf[:n], []byte("replication\x00database\x00")) {
			log.Store(true)
		}
		if p.delay > 0 && err == nil {
			time.Sleep(p.delay)                                    //nolint:forbidigo // this is what it is for
			from.SetReadDeadline(time.Now().Add(time.Millisecond)) //nolint:errcheck // what came meanwhile is taken along
			more, _ := io.ReadAtLeast(from, buf[n:], len(buf)-n)   // an end shows again
			from.SetReadDeadline(time.Time{})                      //nolint:errcheck // as before
			n += more
		}
		for at := 0; at < n; {
			for p.stalled.Load() || p.logHeld.Load() && log.Load() {
				time.Sleep(5 * time.Millisecond) //nolint:forbidigo // this is what it is for
			}
			piece := n - at
			if p.sliced.Load() {
				piece = min(1+rand.IntN(97), piece)
			}
			if _, err := to.Write(buf[at : at+piece]); err != nil {
				return
			}
			at += piece
		}
		if err != nil {
			return
		}
	}
}

// TestABadConnection follows and loads pgbench's own tables over a connection that
// is cut, stalled and sliced, while service, source and state database are killed.
func TestABadConnection(t *testing.T) {
	t.Parallel()
	inRounds(t, aBadConnection)
}

func aBadConnection(t *testing.T, round int) {
	source := ownServer(t, durable(sourceSettings))
	name := database(t, source, "postgres")
	tool := filepath.Join("/usr/lib/postgresql", "15", "bin", "pgbench")
	bench := func(ctx context.Context, args ...string) *exec.Cmd {
		c := exec.CommandContext(ctx, tool, append(args, "-h", "127.0.0.1", "-p", fmt.Sprint(source.Port), "-U", "postgres", name)...)
		c.Env = append(c.Environ(), "PGPASSFILE="+filepath.Join(source.Folder, "pgpass"))
		c.SysProcAttr = &syscall.SysProcAttr{Pdeathsig: syscall.SIGKILL}
		return c
	}
	out, err := bench(t.Context(), "-i", "-s", "1", "-q").CombinedOutput()
	require.NoError(t, err, "%s", out)
	way := startProxy(t, fmt.Sprintf("127.0.0.1:%d", source.Port))
	state := ownServer(t, map[string]string{"max_connections": "100"})
	i := newInstance(t, state, "source:\n  chunk_bytes: 65536\n  heartbeat_every: 300ms\n").start()
	d := sourceDefinition(source, name)
	d["connection"].(map[string]any)["port"] = way.port()
	i.must(http.MethodPost, "/v1/sources/circulation", d, nil)
	i.resume()

	ctx, stop := context.WithCancel(t.Context())
	var writing sync.WaitGroup
	writing.Add(1)
	go func() {
		defer writing.Done()
		for ctx.Err() == nil {
			bench(ctx, "-c", "8", "-j", "2", "-T", "3", "-n").Run() //nolint:errcheck // the server is killed under it
		}
	}()
	random := draws(t, round, 11)
	restart := func(c *demo.Cluster) func() {
		return func() {
			c.Kill()
			// Its orphans hold its memory for a moment yet.
			i.eventually("the server starts again", func() bool { return c.Start(context.Background()) == nil })
		}
	}
	disturb(i, way, random, func() {
		i.call(http.MethodPost, "/v1/sources/circulation/tables/public.pgbench_accounts/reload", nil) //nolint:errcheck // it may be starting
	}, restart(source), restart(state))
	stop()
	writing.Wait()
	db := connect(t, source, name)
	i.settled("circulation", db)
	f := proveJournal(t, i.journal("circulation"))
	for _, table := range []string{"pgbench_accounts", "pgbench_branches", "pgbench_tellers"} {
		f.equals(t, db, table)
	}
	var rows int
	require.NoError(t, db.QueryRow(t.Context(), "SELECT count(*) FROM pgbench_history").Scan(&rows))
	got := 0
	for _, n := range bag(i.journal("circulation"), "public.pgbench_history") {
		got += n
	}
	require.Equal(t, rows, got, "a table without a key counts")
	require.Positive(t, rows)
}
