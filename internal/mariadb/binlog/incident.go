package binlog

// Incident says that the server may have lost changes.
type Incident struct {
	Number  uint16
	Message string
}

// DecodeIncident reads the body of an incident event.
func DecodeIncident(body []byte) (i Incident, err error) {
	p := &parts{data: body}
	i.Number = uint16(p.number(2))
	i.Message = string(p.sized(p.number(1)))
	if p.bad {
		return i, malformed("an incident is too short")
	}
	return i, nil
}
