package session

import (
	"context"
	"io"
	"net"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"
)

// TestCleartext: another machine gets the password itself only where the definition says so, or over a
// connection that is surely encrypted.
func TestCleartext(t *testing.T) {
	for _, one := range []struct {
		host, tls string
		allow     bool
		gets      bool
	}{{"db.example", "disable", false, false}, {"db.example", "prefer", false, false}, {"db.example", "disable", true, true}, {"127.0.0.1", "disable", false, true}} {
		config, err := Connection(one.host, 5432, "library", "reader", "made-up", one.tls, "", one.allow)
		require.NoError(t, err)
		config.LookupFunc = func(context.Context, string) ([]string, error) { return []string{"192.0.2.1"}, nil }
		said := make(chan string, 10)
		config.DialFunc = func(context.Context, string, string) (net.Conn, error) {
			ours, theirs := net.Pipe()
			go func() {
				defer theirs.Close() //nolint:errcheck // it has said what it had to say
				p := make([]byte, 1024)
				n, _ := theirs.Read(p)
				if n == 8 { // it asks for encryption
					io.WriteString(theirs, "N") //nolint:errcheck // the client says what is wrong
					theirs.Read(p)              //nolint:errcheck // as above
				}
				io.WriteString(theirs, "R\x00\x00\x00\x08\x00\x00\x00\x03") //nolint:errcheck // as above
				n, _ = theirs.Read(p)
				said <- string(p[:n])
			}()
			return ours, nil
		}
		_, err = pgx.ConnectConfig(t.Context(), config)
		require.Error(t, err)
		require.Equal(t, !one.gets, Cleartext(err) != nil, "%v: %v", one, err)
		if text := <-said; one.gets {
			require.Contains(t, text, "made-up")
		} else {
			require.NotContains(t, text, "made-up")
		}
	}
}
