package binlog

// XAPrepare ends the group of a distributed transaction that is prepared.
type XAPrepare struct {
	OnePhase bool
	XID      XID
}

// DecodeXAPrepare reads the body of an XA prepare event.
func DecodeXAPrepare(body []byte) (x XAPrepare, err error) {
	p := &parts{data: body}
	x.OnePhase = p.number(1) != 0
	x.XID.Format = uint32(p.number(4))
	global, qualifier := p.number(4), p.number(4)
	x.XID.Global, x.XID.Qualifier = string(p.sized(global)), string(p.sized(qualifier))
	if p.bad {
		return x, malformed("the name of a prepared transaction is too short")
	}
	return x, nil
}
