package binlog

// DecodeGTIDList reads the body of the event behind a file's first one: the newest group
// of each domain and server before the file, in the order in which they are listed.
func DecodeGTIDList(body []byte) ([]GTID, error) {
	p := &parts{data: body}
	n := p.number(4) & (1<<28 - 1)
	if p.bad || n > uint64(len(p.data)/16) {
		return nil, malformed("a list of GTIDs is too short")
	}
	list := make([]GTID, n)
	for i := range list {
		list[i] = GTID{uint32(p.number(4)), uint32(p.number(4)), p.number(8)}
	}
	return list, nil
}
