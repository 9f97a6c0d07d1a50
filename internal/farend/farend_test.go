package farend

import (
	"bufio"
	"bytes"
	"context"
	"encoding/binary"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/jackc/pgx/v5"
	"github.com/nats-io/nats.go"
	"github.com/redis/go-redis/v9"
	"github.com/stretchr/testify/require"
	"github.com/twmb/franz-go/pkg/sasl/scram"
)

// fake is a server that answers what a client says first with what serve writes.
func fake(t *testing.T, serve func(conn net.Conn, in *bufio.Reader)) (address string) {
	listener, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	t.Cleanup(func() { listener.Close() }) //nolint:errcheck // it is the end of the test
	go func() {
		for {
			conn, err := listener.Accept()
			if err != nil {
				return
			}
			go func() {
				defer conn.Close() //nolint:errcheck // it has said what it had to say
				serve(conn, bufio.NewReader(conn))
				io.Copy(io.Discard, conn) //nolint:errcheck // until the client leaves
			}()
		}
	}()
	return listener.Addr().String()
}

func dial(ctx context.Context, network, address string) (net.Conn, error) {
	return new(net.Dialer).DialContext(ctx, network, address)
}

// spent is what a call takes of memory in all, in MiB.
func spent(call func()) uint64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	call()
	runtime.ReadMemStats(&after)
	return (after.TotalAlloc - before.TotalAlloc) >> 20
}

// TestFarEndsThatSendNonsense: what would take all memory, or all time, is refused, and costs little.
func TestFarEndsThatSendNonsense(t *testing.T) {
	greeting := `INFO {"server_id":"x","version":"2.10.0","max_payload":1048576,"headers":true}` + "\r\n"
	toNATS := func(said string) error {
		address := fake(t, func(conn net.Conn, in *bufio.Reader) {
			io.WriteString(conn, greeting) //nolint:errcheck // the client says what is wrong
			for {
				line, err := in.ReadString('\n')
				if err != nil {
					return
				}
				if strings.HasPrefix(line, "PING") {
					io.WriteString(conn, "PONG\r\n") //nolint:errcheck // as above
				}
				if strings.HasPrefix(line, "SUB") {
					io.WriteString(conn, said) //nolint:errcheck // as above
				}
			}
		})
		failed := make(chan error, 1)
		conn, err := nats.Connect("nats://"+address, nats.NoReconnect(), nats.SetCustomDialer(&NATS{Dialer: dial}), nats.ClosedHandler(func(c *nats.Conn) { failed <- c.LastError() }))
		if err != nil {
			return err
		}
		defer conn.Close()
		if _, err := conn.SubscribeSync("a"); err != nil {
			return err
		}
		if err := conn.Flush(); err != nil && conn.LastError() != nil {
			return conn.LastError()
		}
		return <-failed
	}
	toRedis := func(said string) error {
		address := fake(t, func(conn net.Conn, in *bufio.Reader) {
			in.ReadString('\n')        //nolint:errcheck // the client says what is wrong
			io.WriteString(conn, said) //nolint:errcheck // as above
		})
		client := redis.NewClient(&redis.Options{Addr: address, Dialer: Redis(dial), MaxRetries: -1, ReadTimeout: 10 * time.Second})
		defer client.Close() //nolint:errcheck // it was only asked
		return client.Ping(t.Context()).Err()
	}
	toPostgres := func(messages ...string) error {
		address := fake(t, func(conn net.Conn, in *bufio.Reader) {
			for _, one := range messages {
				size := make([]byte, 4)
				if _, err := io.ReadFull(in, size[:1]); err != nil { // the client's next message; the first has no kind
					return
				}
				if one[0] != '!' {
					conn.Write(binary.BigEndian.AppendUint32([]byte{one[0]}, uint32(len(one)+3))) //nolint:errcheck // as above
				}
				io.WriteString(conn, one[1:]) //nolint:errcheck // as above
				in.Discard(in.Buffered())     //nolint:errcheck // it was read
			}
		})
		config, err := pgx.ParseConfig("postgres://a:b@" + address + "/c?sslmode=disable")
		require.NoError(t, err)
		config.BuildFrontend = Postgres
		_, err = pgx.ConnectConfig(t.Context(), config)
		return err
	}
	toHTTP := func(serve http.HandlerFunc) error {
		server := httptest.NewServer(serve)
		defer server.Close()
		client := http.Client{Transport: Transport(http.DefaultTransport, 1<<20)}
		answer, err := client.Get(server.URL)
		if err != nil {
			return err
		}
		defer answer.Body.Close() //nolint:errcheck // it was only read
		_, err = io.Copy(io.Discard, answer.Body)
		return err
	}
	endless := func(w http.ResponseWriter, _ *http.Request) {
		for {
			if _, err := w.Write(make([]byte, 64<<10)); err != nil {
				return
			}
		}
	}
	for name, one := range map[string]struct {
		does func() error
		says string
	}{
		"a message of 100 GB":   {func() error { return toNATS("MSG a 1 100000000000\r\n") }, "announces 95367 MiB"},
		"headers of 100 GB":     {func() error { return toNATS("HMSG a 1 99999999999 100000000000\r\n") }, "announces 95367 MiB"},
		"a length that is none": {func() error { return toNATS("MSG a 1 99999999999999999999\r\n") }, "as a length"},
		"a line without an end": {func() error { return toNATS("MSG " + strings.Repeat("a", 3<<20)) }, "a line of more than"},
		"a map of 10⁸":          {func() error { return toRedis("%100000000\r\n") }, "announces"},
		"a list of 10⁸":         {func() error { return toRedis("*1000\r\n*100000\r\n") }, "announces lists of 101000 elements"},
		"lists within lists":    {func() error { return toRedis(strings.Repeat("*1\r\n", 1000)) }, "33 deep"},
		"a text of 10 GB":       {func() error { return toRedis("$10000000000\r\n") }, "announces 9536 MiB"},
		"texts without an end": {func() error {
			return toRedis("*1000\r\n" + strings.Repeat("$1000000\r\n"+strings.Repeat("x", 1000000)+"\r\n", 70))
		}, "an answer of more than 64 MiB"},
		"2·10⁹ rounds of hashing": {func() error {
			return toPostgres("R\x00\x00\x00\x0aSCRAM-SHA-256\x00\x00", "R\x00\x00\x00\x0br=abc,s=c2FsdA==,i=2000000000")
		}, "asks for 2000000000 rounds"},
		"a message before the login": {func() error { return toPostgres("!R\x7f\xff\xff\xff") }, "a message of 2147483647 bytes before the login"},
		"an answer without an end":   {func() error { return toHTTP(endless) }, "answers with more than 1 MiB"},
		"an answer that says so much": {func() error {
			return toHTTP(func(w http.ResponseWriter, _ *http.Request) { w.Header().Set("Content-Length", "99999999") })
		}, "answers with 95 MiB"},
	} {
		t.Run(name, func(t *testing.T) {
			var err error
			require.Less(t, spent(func() { err = one.does() }), uint64(300))
			require.ErrorContains(t, err, one.says)
		})
	}
	s, _, err := SCRAM(scram.Auth{User: "a", Pass: "b"}.AsSha256Mechanism()).Authenticate(t.Context(), "")
	require.NoError(t, err)
	_, _, err = s.Challenge([]byte("r=abc,s=c2FsdA==,i=2000000000"))
	require.ErrorContains(t, err, "asks for 2000000000 rounds")
}

// TestAnswersInParts: what keeps to the protocol passes, in whatever parts it comes.
func TestAnswersInParts(t *testing.T) {
	for what, of := range map[string]func() (scanner, string){
		"redis": func() (scanner, string) {
			return new(resp), "+OK\r\n%2\r\n$4\r\na\r\nb\r\n*2\r\n:1\r\n$-1\r\n$1\r\nc\r\n_\r\n*0\r\n*-1\r\n|1\r\n+a\r\n+b\r\n*1\r\n#t\r\n" + strings.Repeat("*2\r\n$3\r\nabc\r\n*1\r\n:5\r\n", 60_000)
		},
		"nats": func() (scanner, string) {
			return natsLines(), "INFO {}\r\n" + strings.Repeat("MSG a 1 5\r\nMSG \n\r\nHMSG a 1 b 3 6\r\n123456\r\n+OK\r\n", 1000)
		},
	} {
		_, text := of()
		for _, part := range []int{1, 3, 7, 4096} {
			s, _ := of()
			in := bytes.NewReader([]byte(text))
			p := make([]byte, part)
			for {
				n, err := in.Read(p)
				if err == io.EOF {
					break
				}
				require.NoError(t, s.scan(p[:n]), fmt.Sprint(what, part))
			}
			if r, is := s.(*resp); is {
				require.Empty(t, r.open)
				require.Zero(t, r.total)
			}
		}
	}
}
