package binlog

// Rotate says that the log goes on in another file.
type Rotate struct {
	File   string
	Offset uint64
}

// DecodeRotate reads the body of a rotate event.
func DecodeRotate(body []byte) (r Rotate, err error) {
	p := &parts{data: body}
	r.Offset = p.number(8)
	if p.bad || len(p.data) == 0 || len(p.data) > 512 {
		return r, malformed("a change of the file names no file")
	}
	r.File = string(p.data)
	return r, nil
}
