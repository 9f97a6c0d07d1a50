// Package netguard says which addresses the service may connect to for what people
// define: databases, brokers, functions, storages, registries. It looks at the address
// that is really dialled, since a name may lead elsewhere than it did when it was
// checked: whoever may define a destination must not reach what only this machine may.
package netguard

import (
	"context"
	"errors"
	"fmt"
	"net"
	"net/netip"
	"slices"
	"strings"
	"sync"
	"syscall"
	"time"

	"rillmark/internal/thrift"
)

// Kinds that are dialled for besides the kinds of destinations.
const (
	KindPostgreSQL = "postgresql"
	KindRegistry   = "registry"
)

// Policy says what may be reached, by kind; "all" stands for every kind. The zero
// policy reaches the open network alone.
type Policy struct {
	// Local are the kinds that may be on this machine: loopback, and the machine's own
	// addresses.
	Local []string
	// Private are the kinds that may be in private ranges (RFC 1918, 4193, 6598).
	Private []string
	// Allow and Deny are ranges that may always, or never, be reached, whatever the kind.
	// Link-local addresses, where clouds keep the machine's own credentials, can only be
	// reached by Allow; our own listeners never.
	Allow, Deny []netip.Prefix
	// Listeners are the service's own addresses.
	Listeners []netip.AddrPort
}

// Validate refuses kinds that are none of those that there are.
func (p *Policy) Validate(kinds []string) error {
	for _, kind := range slices.Concat(p.Local, p.Private) {
		if kind != "all" && !slices.Contains(kinds, kind) {
			return fmt.Errorf("%q is no kind that is connected to: there are all, %s", kind, strings.Join(kinds, ", "))
		}
	}
	return nil
}

// Refused is an address that may not be reached.
type Refused struct {
	Address string
	Why     string
	// Setting is what in the configuration would allow it; empty for nothing.
	Setting string
}

// Error says why, and what would allow it.
func (r *Refused) Error() string {
	text := fmt.Sprintf("%s is %s, which this service does not connect to", r.Address, r.Why)
	if r.Setting != "" {
		text += ": an administrator can allow it with " + r.Setting + " in the configuration"
	}
	return text
}

// Guard dials by a policy.
type Guard struct {
	policy Policy
	mu     sync.Mutex
	own    []netip.Addr
	asked  time.Time
}

// New makes a guard.
func New(p Policy) *Guard { return &Guard{policy: p} }

// Dial is a dialer.
type Dial func(ctx context.Context, network, address string) (net.Conn, error)

// Dialer dials for a kind. A nil guard allows everything.
func (g *Guard) Dialer(kind string) Dial {
	d := &net.Dialer{Timeout: 10 * time.Second, KeepAlive: 30 * time.Second}
	if g != nil {
		d.Control = func(network, address string, _ syscall.RawConn) error { return g.Check(kind, network, address) }
	}
	return thrift.Dialer(d.DialContext)
}

// Check says why an address may not be dialled; nil where it may.
func (g *Guard) Check(kind, network, address string) error {
	may := func(kinds []string) bool { return slices.Contains(kinds, "all") || slices.Contains(kinds, kind) }
	if strings.HasPrefix(network, "unix") {
		if may(g.policy.Local) {
			return nil
		}
		return &Refused{address, "a socket on this machine", "network.local: [" + kind + "]"}
	}
	at, err := netip.ParseAddrPort(address)
	if err != nil {
		return &Refused{address, "no address", ""}
	}
	for _, a := range forms(at.Addr()) {
		if err := g.checkOne(kind, a, at, may); err != nil {
			return err
		}
	}
	return nil
}

func (g *Guard) checkOne(kind string, a netip.Addr, at netip.AddrPort, may func([]string) bool) error {
	local := a.IsLoopback() || a.IsUnspecified() || slices.Contains(g.addresses(), a)
	for _, l := range g.policy.Listeners {
		if l.Port() == at.Port() && (local && (l.Addr().IsUnspecified() || l.Addr().IsLoopback()) || l.Addr() == a) {
			return &Refused{at.String(), "an address of this service itself", ""}
		}
	}
	in := func(ranges []netip.Prefix) bool {
		return slices.ContainsFunc(ranges, func(p netip.Prefix) bool { return p.Contains(a) })
	}
	switch {
	case in(g.policy.Deny):
		return &Refused{at.String(), "in a range that network.deny names", ""}
	case in(g.policy.Allow):
		return nil
	case local:
		if !may(g.policy.Local) {
			return &Refused{at.String(), "on this machine", "network.local: [" + kind + "]"}
		}
	case a.IsLinkLocalUnicast():
		return &Refused{at.String(), "a link-local address", "network.allow"}
	case !a.IsGlobalUnicast() || a == netip.AddrFrom4([4]byte{255, 255, 255, 255}):
		return &Refused{at.String(), "no address of one host", ""}
	case private(a):
		if !may(g.policy.Private) {
			return &Refused{at.String(), "a private address", "network.private: [" + kind + "]"}
		}
	}
	return nil
}

var privateRanges = prefixes("100.64.0.0/10", "0.0.0.0/8", "192.0.0.0/24", "198.18.0.0/15", "240.0.0.0/4", "fec0::/10")

func private(a netip.Addr) bool {
	return a.IsPrivate() || slices.ContainsFunc(privateRanges, func(p netip.Prefix) bool { return p.Contains(a) })
}

func prefixes(texts ...string) []netip.Prefix {
	all := make([]netip.Prefix, len(texts))
	for i, text := range texts {
		all[i] = netip.MustParsePrefix(text)
	}
	return all
}

// The forms of IPv6 that hold an IPv4 address, by where its bytes stand in them; flipped ones are
// stored with all bits the other way round.
var embedding = []struct {
	in      netip.Prefix
	at      [4]int
	flipped bool
}{
	{netip.MustParsePrefix("::/96"), [4]int{12, 13, 14, 15}, false},           // IPv4-compatible (RFC 4291, section 2.5.5.1)
	{netip.MustParsePrefix("::ffff:0:0:0/96"), [4]int{12, 13, 14, 15}, false}, // IPv4-translated (RFC 2765, section 2.1)
	{netip.MustParsePrefix("64:ff9b::/96"), [4]int{12, 13, 14, 15}, false},    // NAT64 (RFC 6052)
	// NAT64 for local use (RFC 8215), with prefixes of 48, 56, 64 and 96 bits (RFC 6052, section 2.2)
	{netip.MustParsePrefix("64:ff9b:1::/48"), [4]int{6, 7, 9, 10}, false},
	{netip.MustParsePrefix("64:ff9b:1::/48"), [4]int{7, 9, 10, 11}, false},
	{netip.MustParsePrefix("64:ff9b:1::/48"), [4]int{9, 10, 11, 12}, false},
	{netip.MustParsePrefix("64:ff9b:1::/48"), [4]int{12, 13, 14, 15}, false},
	{netip.MustParsePrefix("2002::/16"), [4]int{2, 3, 4, 5}, false},    // 6to4 (RFC 3056)
	{netip.MustParsePrefix("2001::/32"), [4]int{4, 5, 6, 7}, false},    // Teredo: the server (RFC 4380, section 4)
	{netip.MustParsePrefix("2001::/32"), [4]int{12, 13, 14, 15}, true}, // and the client
}

// forms are an address and the IPv4 addresses that it may lead to.
func forms(a netip.Addr) []netip.Addr {
	a = a.WithZone("").Unmap() // IPv4-mapped
	all := []netip.Addr{a}
	if !a.Is6() || a == netip.IPv6Loopback() || a.IsUnspecified() {
		return all
	}
	raw := a.As16()
	for _, e := range embedding {
		if !e.in.Contains(a) {
			continue
		}
		var v4 [4]byte
		for i, at := range e.at {
			v4[i] = raw[at]
			if e.flipped {
				v4[i] = ^raw[at]
			}
		}
		if v4[0] == 0 && e.in.Bits() == 48 {
			continue // the prefix is a longer one: no host has such an address
		}
		all = append(all, netip.AddrFrom4(v4))
	}
	return all
}

// addressesFor is how long the machine's own addresses are taken as known.
const addressesFor = 10 * time.Second

// addresses are the machine's own.
func (g *Guard) addresses() []netip.Addr {
	g.mu.Lock()
	defer g.mu.Unlock()
	if time.Since(g.asked) < addressesFor && g.own != nil {
		return g.own
	}
	found, err := net.InterfaceAddrs()
	if err != nil {
		return g.own
	}
	g.asked, g.own = time.Now(), nil
	for _, one := range found {
		if p, err := netip.ParsePrefix(one.String()); err == nil {
			g.own = append(g.own, p.Addr().WithZone("").Unmap())
		}
	}
	return g.own
}

// IsRefused is the refusal in an error's chain; nil where there is none.
func IsRefused(err error) *Refused {
	var refused *Refused
	errors.As(err, &refused)
	return refused
}
