package wire

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"strconv"
	"strings"
	"time"
)

// Config is how a server is reached and as whom.
type Config struct {
	// Host is a name, an address, or the path of a Unix socket.
	Host     string
	Port     int
	User     string
	Password string
	// TLS, where not nil, encrypts the connection; Require refuses a server that cannot.
	TLS     *tls.Config
	Require bool
	// Dial connects; nil for an ordinary dialer.
	Dial func(ctx context.Context, network, address string) (net.Conn, error)
	// Silence, where not zero, is how long the server may send nothing.
	Silence time.Duration
	// Program names us in the server's list of sessions.
	Program string
	// Several lets statements be sent together, with semicolons between them, lets rows be
	// sent by LOAD DATA (see [Conn.Load]), and has the server count the rows that an UPDATE
	// finds rather than those that it changes.
	Several bool
}

// Address is what is dialled.
func (c *Config) Address() (network, address string) {
	if strings.HasPrefix(c.Host, "/") {
		return "unix", c.Host
	}
	return "tcp", net.JoinHostPort(c.Host, strconv.Itoa(c.Port))
}

// Error is an error packet of the server (section "ERR_Packet").
type Error struct {
	Code    uint16
	State   string // the SQLSTATE
	Message string // in the server's language
}

// Error is the server's text and number.
func (e *Error) Error() string {
	return fmt.Sprintf("%s (error %d, SQLSTATE %s)", e.Message, e.Code, e.State)
}

// Code is the number of a server's error in a chain; 0 where there is none.
func Code(err error) uint16 {
	var e *Error
	if errors.As(err, &e) {
		return e.Code
	}
	return 0
}

// ErrNoTLS is a server that does not encrypt where that is required.
var ErrNoTLS = errors.New("the server does not offer encrypted connections")

// Conn is one session with a server. It is not safe for several goroutines.
type Conn struct {
	frames
	// Version is the server's own name and version.
	Version string
	// ID is the session's number on the server.
	ID        uint32
	encrypted bool
	// broken is true once the session cannot be used any more.
	broken bool
}

// The capabilities of section "Connection".
const (
	capLongPassword = 1 << 0
	capFoundRows    = 1 << 1
	capLongFlag     = 1 << 2
	capLocalFiles   = 1 << 7
	capProtocol41   = 1 << 9
	capTLS          = 1 << 11
	capTransactions = 1 << 13
	capSecure       = 1 << 15
	capSeveral      = 1 << 16
	capResults      = 1 << 17
	capPluginAuth   = 1 << 19
	capConnectAttrs = 1 << 20
	capPluginLenenc = 1 << 21
)

// loginTimeout is what connecting and logging in may take.
const loginTimeout = 15 * time.Second

// utf8mb4 is the number of the collation utf8mb4_general_ci, in which we speak.
const utf8mb4 = 45

// mostLogin is the largest packet before the login is done, in bytes.
const mostLogin = 1 << 20

// Connect logs in. Cancelling ctx ends the attempt, and nothing later.
func Connect(ctx context.Context, config *Config) (*Conn, error) {
	ctx, cancel := context.WithTimeout(ctx, loginTimeout)
	defer cancel()
	dial := config.Dial
	if dial == nil {
		dial = (&net.Dialer{KeepAlive: 30 * time.Second}).DialContext
	}
	network, address := config.Address()
	conn, err := dial(ctx, network, address)
	if err != nil {
		return nil, err
	}
	c := new(Conn)
	c.use(conn)
	stop := context.AfterFunc(ctx, func() { conn.SetDeadline(time.Unix(1, 0)) }) //nolint:errcheck // the login fails by it
	c.most = mostLogin
	err = c.login(ctx, config)
	c.most = 0
	if !stop() && err == nil {
		err = context.Cause(ctx)
	}
	if err != nil {
		conn.Close() //nolint:errcheck // the first error is the one to report
		if ctx.Err() != nil {
			return nil, context.Cause(ctx)
		}
		return nil, err
	}
	c.silence = config.Silence
	return c, nil
}

// login is sections "Initial handshake packet" and "Handshake response packet".
func (c *Conn) login(ctx context.Context, config *Config) error {
	greeting, err := c.readPacket()
	if err != nil {
		return err
	}
	if len(greeting) > 0 && greeting[0] == 0xFF {
		return errorOf(greeting)
	}
	f := &fields{data: greeting}
	if version := f.number(1); version != 10 {
		return fmt.Errorf("the server speaks version %d of the protocol, not 10: is it MariaDB?", version)
	}
	c.Version = f.zeroEnded()
	c.ID = uint32(f.number(4))
	scramble := append([]byte(nil), f.take(8)...)
	f.take(1)
	offered := f.number(2)
	f.take(3) // character set, status
	offered |= f.number(2) << 16
	length := int(f.number(1))
	f.take(10)
	scramble = append(scramble, f.take(max(13, length-8)-1)...)
	f.take(1)
	plugin := f.zeroEnded()
	if f.bad {
		return errPacket
	}
	capabilities := uint64(capLongPassword | capLongFlag | capProtocol41 | capTransactions | capSecure | capPluginAuth | capPluginLenenc | capConnectAttrs)
	if config.Several {
		capabilities |= capFoundRows | capSeveral | capResults | capLocalFiles
	}
	if config.TLS != nil && offered&capTLS == 0 && config.Require {
		return ErrNoTLS
	}
	head := func() []byte {
		b := make([]byte, 32)
		for i := range 4 {
			b[i] = byte(capabilities >> (8 * i))
		}
		b[4], b[5], b[6], b[7] = 0, 0, 0, 0x40 // packets of 1 GiB
		b[8] = utf8mb4
		return b
	}
	if config.TLS != nil && offered&capTLS != 0 {
		capabilities |= capTLS
		if err := c.writePacket(head()); err != nil {
			return err
		}
		secured := tls.Client(c.conn, config.TLS)
		if err := secured.HandshakeContext(ctx); err != nil {
			return fmt.Errorf("encrypting the connection: %w", err)
		}
		c.use(secured)
		c.encrypted = true
	}
	if plugin != nativePassword {
		plugin = nativePassword // the server asks for another if the user has one
	}
	proof, err := answer(plugin, config.Password, scramble, c.encrypted)
	if err != nil {
		return err
	}
	response := append(head(), config.User...)
	response = append(response, 0)
	response = append(response, byte(len(proof)))
	response = append(response, proof...)
	response = append(response, plugin...)
	response = append(response, 0)
	attributes := appendText(appendText(nil, "program_name"), config.Program)
	response = append(appendLength(response, len(attributes)), attributes...)
	if err := c.writePacket(response); err != nil {
		return err
	}
	return c.authenticate(config)
}

// authenticate answers until the server lets us in.
func (c *Conn) authenticate(config *Config) error {
	for range 4 {
		packet, err := c.readPacket()
		if err != nil {
			return err
		}
		f := &fields{data: packet}
		switch f.number(1) {
		case 0x00:
			return nil
		case 0xFF:
			return errorOf(packet)
		case 0xFE: // another way: section "Authentication switch request"
			plugin := f.zeroEnded()
			challenge := f.data
			if n := len(challenge); n > 0 && challenge[n-1] == 0 && plugin == nativePassword {
				challenge = challenge[:n-1]
			}
			proof, err := answer(plugin, config.Password, challenge, c.encrypted)
			if err != nil {
				return err
			}
			if err := c.writePacket(proof); err != nil {
				return err
			}
		default:
			return errPacket
		}
	}
	return errPacket
}

func appendLength(dst []byte, n int) []byte {
	if n < 251 {
		return append(dst, byte(n))
	}
	return append(dst, 0xFC, byte(n), byte(n>>8))
}

func appendText(dst []byte, s string) []byte { return append(appendLength(dst, len(s)), s...) }

// errorOf reads an error packet.
func errorOf(packet []byte) error {
	f := &fields{data: packet}
	f.take(1)
	e := &Error{Code: uint16(f.number(2)), State: "HY000"}
	if len(f.data) > 5 && f.data[0] == '#' {
		e.State = string(f.data[1:6])
		f.take(6)
	}
	e.Message = string(f.data)
	if f.bad {
		return errPacket
	}
	return e
}

// Encrypted reports whether the session is.
func (c *Conn) Encrypted() bool { return c.encrypted }

// Close says goodbye and closes the connection.
func (c *Conn) Close() {
	if !c.broken {
		c.conn.SetDeadline(time.Now().Add(time.Second)) //nolint:errcheck // it is the end anyway
		c.command(0x01, "")                             //nolint:errcheck // COM_QUIT: the server notices otherwise
	}
	c.broken = true
	c.conn.Close() //nolint:errcheck // nothing is open on it
}

// Interrupt ends whatever waits on the connection, which cannot be used any more. It may
// be called by another goroutine.
func (c *Conn) Interrupt() { c.conn.SetDeadline(time.Unix(1, 0)) } //nolint:errcheck // it is the end anyway
