package netguard

import (
	"net/netip"
	"testing"

	"github.com/stretchr/testify/require"
)

// TestAddresses goes through the forms in which an inner address can be written.
func TestAddresses(t *testing.T) {
	inner := New(Policy{Private: []string{"kafka", KindPostgreSQL}, Local: []string{"redis"}, Deny: prefixes("10.9.0.0/16"), Allow: prefixes("169.254.7.7/32"),
		Listeners: []netip.AddrPort{netip.MustParseAddrPort("127.0.0.1:7450")}})
	inner.own, inner.asked = []netip.Addr{netip.MustParseAddr("203.0.113.9")}, inner.asked.AddDate(9000, 0, 0)
	for _, one := range []struct {
		kind, address, why string
	}{
		{"http", "198.51.100.7:443", ""},
		{"http", "[2001:db8::1]:443", ""},
		{"http", "127.0.0.1:80", "on this machine"},
		{"http", "[::1]:80", "on this machine"},
		{"http", "0.0.0.0:80", "on this machine"},
		{"http", "[::]:80", "on this machine"},
		{"http", "203.0.113.9:80", "on this machine"},
		{"http", "[::ffff:127.0.0.1]:80", "on this machine"},
		{"http", "[::127.0.0.1]:80", "on this machine"},
		{"http", "[2002:7f00:1::]:80", "on this machine"},
		{"http", "[64:ff9b::7f00:1]:80", "on this machine"},
		{"http", "[64:ff9b:1::7f00:1]:80", "on this machine"},
		{"http", "[64:ff9b:1:7f00:0:100::]:80", "on this machine"},
		{"http", "[64:ff9b:1:ab7f:0:1::]:80", "on this machine"},
		{"http", "[64:ff9b:1:abcd:7f:0:100:0]:80", "on this machine"},
		{"http", "[64:ff9b:1::c633:6407]:80", ""},
		{"http", "[::ffff:0:7f00:1]:80", "on this machine"},
		{"http", "[::ffff:0:c633:6407]:80", ""},
		{"http", "[2001:0:c633:6407::80ff:fffe]:80", "on this machine"},
		{"http", "[2001:0:7f00:1::39cc:9bf8]:80", "on this machine"},
		{"http", "[2001:0:c633:6407::39cc:9bf8]:80", ""},
		{"http", "[64:ff9b::c633:6407]:80", ""},
		{"http", "10.1.2.3:80", "a private address"},
		{"http", "[::ffff:10.1.2.3]:80", "a private address"},
		{"http", "[fd00::1]:80", "a private address"},
		{"http", "100.64.1.1:80", "a private address"},
		{"kafka", "10.1.2.3:9092", ""},
		{KindPostgreSQL, "192.168.7.1:5432", ""},
		{"kafka", "10.9.1.1:9092", "network.deny"},
		{"kafka", "127.0.0.1:9092", "on this machine"},
		{"redis", "127.0.0.1:6379", ""},
		{"redis", "127.0.0.1:7450", "an address of this service itself"},
		{"redis", "[::ffff:127.0.0.1]:7450", "an address of this service itself"},
		{"redis", "203.0.113.9:7450", "an address of this service itself"},
		{"redis", "169.254.169.254:80", "a link-local address"},
		{"redis", "[fe80::1]:80", "a link-local address"},
		{"redis", "169.254.7.7:80", ""},
		{"redis", "224.0.0.1:80", "no address of one host"},
		{"redis", "255.255.255.255:80", "no address of one host"},
	} {
		err := inner.Check(one.kind, "tcp", one.address)
		if one.why == "" {
			require.NoError(t, err, "%s %s", one.kind, one.address)
			continue
		}
		require.ErrorContains(t, err, one.why, "%s %s", one.kind, one.address)
		require.NotNil(t, IsRefused(err))
	}
	require.Error(t, inner.Check("kafka", "unix", "/run/x"))
	require.Error(t, (&Policy{Local: []string{"pigeon"}}).Validate([]string{"redis"}))
	conn, err := inner.Dialer("http")(t.Context(), "tcp", "127.0.0.1:1")
	require.Nil(t, conn)
	require.NotNil(t, IsRefused(err), "the address that is dialled is looked at")
}
