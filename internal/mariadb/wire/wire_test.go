package wire

import (
	"bytes"
	"context"
	"errors"
	"io"
	"net"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// script is a connection whose other side has said all it says from the beginning.
type script struct {
	net.Conn
	in   *bytes.Reader
	sent bytes.Buffer
}

func (s *script) Read(p []byte) (int, error)      { return s.in.Read(p) }
func (s *script) Write(p []byte) (int, error)     { return s.sent.Write(p) }
func (*script) SetDeadline(time.Time) error       { return nil }
func (*script) SetReadDeadline(_ time.Time) error { return nil }
func (*script) Close() error                      { return nil }

// framed puts packets into frames that are numbered from first on.
func framed(first byte, packets ...string) []byte {
	var f frames
	out := new(script)
	f.conn, f.sequence = out, first
	for _, p := range packets {
		f.writePacket([]byte(p)) //nolint:errcheck // it is a buffer
	}
	return out.sent.Bytes()
}

// with is a session that reads what a server says to its next statement.
func with(answer []byte) (*Conn, *script) {
	s := &script{in: bytes.NewReader(answer)}
	c := new(Conn)
	c.use(s)
	return c, s
}

const (
	okay     = "\x00\x03\x00\x02\x00\x01\x00"
	okayMore = "\x00\x01\x00\x0a\x00\x00\x00"
	end      = "\xfe\x00\x00\x02\x00"
	denied   = "\xff\x15\x04#28000Access denied"
)

func column(name string) string {
	return "\x03def\x00\x00\x00" + string(appendText(nil, name)) + "\x00\x0c\x2d\x00\x00\x00\x00\x00\xfd\x00\x00\x00\x00\x00"
}

// TestAnswers reads rows, nulls, packets of several frames, and statements sent together.
func TestAnswers(t *testing.T) {
	large := strings.Repeat("x", maxFrame+10)
	row := append([]byte("\xfb\x00\xfe"), 0x09, 0, 0, 1, 0, 0, 0, 0)
	c, s := with(framed(1, "\x03", column("a"), column("b"), column("note"), end, string(row)+large, "\x011\x012\xfc\x02\x00ab", end))
	r, err := c.Query(t.Context(), "SELECT 1")
	require.NoError(t, err)
	require.Equal(t, []string{"a", "b", "note"}, r.Columns)
	first := r.Next()
	require.Nil(t, first[0])
	require.Empty(t, first[1])
	require.NotNil(t, first[1], "an empty text is no null")
	require.Equal(t, large, string(first[2]))
	require.Equal(t, [][]byte{[]byte("1"), []byte("2"), []byte("ab")}, r.Next())
	require.Nil(t, r.Next())
	require.NoError(t, r.Err())
	require.Equal(t, "\x09\x00\x00\x00\x03SELECT 1", s.sent.String())

	c, _ = with(framed(1, okayMore, "\x01", column("a"), end, "\x011", "\xfe\x02\x00\x0a\x00", okay))
	done, err := c.Run(t.Context(), "UPDATE …; SELECT …; UPDATE …")
	require.NoError(t, err)
	require.Equal(t, Done{Touched: 3, Warnings: 3}, done)

	c, _ = with(framed(1, okayMore, denied))
	_, err = c.Run(t.Context(), "a; b")
	require.EqualValues(t, 1045, Code(err))
	require.EqualError(t, err, "Access denied (error 1045, SQLSTATE 28000)")

	c, s = with(framed(1, "\xfbwhatever"))
	s.in = bytes.NewReader(append(framed(1, "\xfb/etc/passwd"), framed(5, okay)...))
	parts := []string{"1\t2\n", "3\t4\n"}
	done, err = c.Load(t.Context(), "LOAD", func() ([]byte, error) {
		if len(parts) == 0 {
			return nil, nil
		}
		part := parts[0]
		parts = parts[1:]
		return []byte(part), nil
	})
	require.NoError(t, err)
	require.EqualValues(t, 3, done.Touched)
	require.True(t, strings.HasSuffix(s.sent.String(), "\x04\x00\x00\x021\t2\n\x04\x00\x00\x033\t4\n\x00\x00\x00\x04"))
}

// TestWrongAnswers: what is not the protocol, or is cut off, ends the session with an error.
func TestWrongAnswers(t *testing.T) {
	whole := framed(1, "\x02", column("a"), column("b"), end, "\x011\x012", end)
	for n := range whole {
		c, _ := with(whole[:n])
		err := c.Exec(t.Context(), "SELECT 1")
		require.Error(t, err, "the first %d bytes", n)
		require.True(t, errors.Is(err, io.ErrUnexpectedEOF) || errors.Is(err, io.EOF), "%d: %v", n, err)
		require.ErrorContains(t, c.Exec(t.Context(), "SELECT 1"), "has been closed")
	}
	for name, answer := range map[string][]byte{
		"frames out of order":        framed(2, okay),
		"an empty packet":            framed(1, ""),
		"an OK that is cut":          framed(1, "\x00\x01"),
		"a file is asked for":        framed(1, "\xfb/etc/passwd"),
		"too many columns":           framed(1, "\xfc\xff\xff"),
		"a column that is cut":       framed(1, "\x01", "\x03de"),
		"rows without their head":    framed(1, "\x01", column("a"), "\x011"),
		"a length beyond the packet": framed(1, "\x01", column("a"), end, "\xfe\xff\xff\xff\xff\xff\xff\xff\xff..."),
		"a value too few":            framed(1, "\x02", column("a"), column("b"), end, "\x011"),
		"an error that is cut":       framed(1, "\xff\x15"),
		"an error after some rows":   framed(1, "\x01", column("a"), end, "\x011", denied),
	} {
		c, _ := with(answer)
		require.Error(t, c.Exec(t.Context(), "SELECT 1"), name)
	}
	c, _ := with(framed(1, okay))
	gone, cancel := context.WithCancel(t.Context())
	cancel()
	require.ErrorIs(t, c.Exec(gone, "SELECT 1"), context.Canceled)
	require.NoError(t, c.Exec(t.Context(), "SELECT 1"), "nothing was sent before")
}

// TestLogin: the ways to prove a password, and what a server may ask that is not given.
func TestLogin(t *testing.T) {
	greeting := func(capabilities uint32, plugin string) string {
		low, high := capabilities&0xffff, capabilities>>16
		return "\x0a12.0-MariaDB\x00\x07\x00\x00\x0012345678\x00" + string([]byte{byte(low), byte(low >> 8)}) + "\x2d\x02\x00" + string([]byte{byte(high), byte(high >> 8)}) +
			"\x15" + strings.Repeat("\x00", 10) + "901234567890\x00" + plugin + "\x00"
	}
	login := func(config Config, said ...[]byte) (*Conn, *script, error) {
		s := &script{in: bytes.NewReader(bytes.Join(said, nil))}
		config.Dial = func(context.Context, string, string) (net.Conn, error) { return s, nil }
		c, err := Connect(t.Context(), &config)
		return c, s, err
	}
	c, s, err := login(Config{User: "rillmark", Password: "s3cret", Program: "rillmark"}, framed(0, greeting(0xffffffff, nativePassword)), framed(2, okay))
	require.NoError(t, err)
	require.Equal(t, []any{"12.0-MariaDB", uint32(7), false}, []any{c.Version, c.ID, c.Encrypted()})
	require.NotContains(t, s.sent.String(), "s3cret")
	require.Contains(t, s.sent.String(), "program_name")
	_, s, err = login(Config{User: "rillmark", Password: "s3cret"}, framed(0, greeting(0xffffffff, nativePassword)), framed(2, "\xfeclient_ed25519\x00"+strings.Repeat("c", 32)), framed(4, okay))
	require.NoError(t, err)
	require.NotContains(t, s.sent.String(), "s3cret")
	for name, one := range map[string]struct {
		said [][]byte
		told string
	}{
		"another protocol":     {[][]byte{framed(0, "SSH-2.0-OpenSSH")}, "version 83 of the protocol"},
		"too many connections": {[][]byte{framed(0, "\xff\x10\x04Too many connections")}, "Too many connections (error 1040"},
		"a greeting cut":       {[][]byte{framed(0, greeting(0xffffffff, "")[:30])}, "too short"},
		"a wrong password":     {[][]byte{framed(0, greeting(0xffffffff, nativePassword)), framed(2, denied)}, "Access denied"},
		"a password in clear":  {[][]byte{framed(0, greeting(0xffffffff, nativePassword)), framed(2, "\xfemysql_clear_password\x00")}, "asks for the password itself"},
		"no end of questions":  {[][]byte{framed(0, greeting(0xffffffff, nativePassword)), framed(2, "\xfe"+nativePassword+"\x0012345678901234567890\x00"), framed(4, "\xfe"+nativePassword+"\x0012345678901234567890\x00"), framed(6, "\xfe"+nativePassword+"\x0012345678901234567890\x00"), framed(8, "\xfe"+nativePassword+"\x0012345678901234567890\x00")}, "too short"},
	} {
		_, s, err := login(Config{User: "rillmark", Password: "s3cret"}, one.said...)
		require.ErrorContains(t, err, one.told, name)
		require.NotContains(t, s.sent.String(), "s3cret", name)
	}
}

// FuzzAnswers takes anything for a server's answer to a statement and to a request for its log.
func FuzzAnswers(f *testing.F) {
	f.Add([]byte("\x01\x01"+"\x1a"+column("a")+"\x05"+end+"\x02\x011\x05"+end), true)
	f.Add([]byte("\x07"+okay), true)
	f.Add(framed(1, "\x01", column("a"), end, "\x011", end), false)
	f.Fuzz(func(t *testing.T, said []byte, cut bool) {
		answer := said
		if cut { // into packets, by lengths that are in it
			var packets []string
			for len(said) > 0 {
				n := min(int(said[0]), len(said)-1)
				packets, said = append(packets, string(said[1:1+n])), said[1+n:]
			}
			answer = framed(1, packets...)
		}
		c, _ := with(answer)
		c.Run(context.Background(), "SELECT 1") //nolint:errcheck // anything but a panic
		c, _ = with(answer)
		c.sequence = 1
		for {
			if _, err := c.NextEvent(); err != nil {
				break
			}
		}
	})
}

// TestAnswersThatNobodyCanMean: too few columns, no row, rows or a packet without an end.
func TestAnswersThatNobodyCanMean(t *testing.T) {
	head := []string{"\x02", column("a"), column("b"), end}
	c, _ := with(framed(1, append(head, "\x011\x012", end)...))
	_, err := c.All(t.Context(), 3, "SELECT 1, 2, 3")
	require.EqualError(t, err, "the server answers with 2 columns where 3 were asked for")
	_, err = c.Query(t.Context(), "SELECT 1")
	require.ErrorContains(t, err, "the session has been closed")
	c, _ = with(framed(1, append(head, end)...))
	_, err = c.Row(t.Context(), 2, "SELECT 1, 2")
	require.EqualError(t, err, "the server answers without a row, where there always is one")
	c, _ = with(framed(1, okay))
	_, err = c.Row(t.Context(), 2, "SELECT 1, 2")
	require.EqualError(t, err, "the server answers without a row, where there always is one")

	endless := append(framed(1, head...), framed(byte(1+len(head)), slices.Repeat([]string{"\x011\x012"}, 250)...)...)
	c, _ = with(append(endless, framed(byte(251+len(head)), slices.Repeat([]string{"\x011\x012"}, 50_000)...)...))
	_, err = c.few(t.Context(), 2, "SELECT 1, 2", 1<<20)
	require.EqualError(t, err, "the server answers with rows of more than 1 MiB, where few were asked for")
	c, _ = with(append(framed(1, head...), framed(byte(1+len(head)), strings.Repeat("x", maxFrame))...))
	_, err = c.few(t.Context(), 2, "SELECT 1, 2", 1<<20)
	require.EqualError(t, err, "the server sends a packet of more than 1048576 bytes")
	require.Zero(t, c.most)
}
