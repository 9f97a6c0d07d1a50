package wire

import (
	"encoding/binary"
	"fmt"
)

// Register makes the session known as a replica (section "COM_REGISTER_SLAVE").
func (c *Conn) Register(server uint32, host string) error {
	body := binary.LittleEndian.AppendUint32(nil, server)
	host = host[:min(len(host), 60)]
	body = append(append(body, byte(len(host))), host...)
	body = append(body, 0, 0, 0, 0) // user, password, port
	body = append(body, make([]byte, 8)...)
	if err := c.command(0x15, string(body)); err != nil {
		return err
	}
	packet, err := c.readPacket()
	if err != nil {
		return err
	}
	if len(packet) > 0 && packet[0] == 0xFF {
		return errorOf(packet)
	}
	return nil
}

// Dump asks for the log from where the session's slave_connect_state says (section
// "COM_BINLOG_DUMP"): without a file, from that file's first event, and without flags.
func (c *Conn) Dump(server uint32, flags uint16) error {
	const firstEvent = 4 // behind a file's first bytes, which name its format
	body := binary.LittleEndian.AppendUint32(nil, firstEvent)
	body = binary.LittleEndian.AppendUint16(body, flags)
	return c.command(0x12, string(binary.LittleEndian.AppendUint32(body, server)))
}

// NextEvent is the next event of the log without its frame, good until the next call.
// The end of the log, which a server sends to a reader of id 0 only, is an error.
func (c *Conn) NextEvent() ([]byte, error) {
	packet, err := c.readPacket()
	if err != nil {
		return nil, err
	}
	switch {
	case len(packet) > 1 && packet[0] == 0x00:
		return packet[1:], nil
	case len(packet) > 0 && packet[0] == 0xFF:
		return nil, errorOf(packet)
	case len(packet) > 0 && packet[0] == 0xFE:
		return nil, fmt.Errorf("the server ends its log")
	}
	return nil, errPacket
}

// Pending reports whether more of the log has come already.
func (c *Conn) Pending() bool { return c.in.Buffered()-c.passed > 4 }
