package farend

import (
	"bytes"
	"strconv"
)

// lines takes what comes apart into lines and the bytes that a line announces.
type lines struct {
	line []byte
	left int64 // bytes of what was announced
	// each looks at a line, without its end, and says how many bytes follow that are none.
	each func(line []byte) (follow int64, err error)
}

func (l *lines) scan(p []byte) error {
	for len(p) > 0 {
		if l.left > 0 {
			n := min(l.left, int64(len(p)))
			l.left -= n
			p = p[n:]
			continue
		}
		end := bytes.IndexByte(p, '\n')
		if end < 0 {
			if len(l.line)+len(p) > mostLine {
				return nonsense("sends a line of more than %d KiB", mostLine>>10)
			}
			l.line = append(l.line, p...)
			return nil
		}
		line := p[:end]
		if len(l.line) > 0 {
			l.line = append(l.line, line...)
			line = l.line
		}
		follow, err := l.each(bytes.TrimSuffix(line, []byte("\r")))
		if err != nil {
			return err
		}
		l.left, l.line, p = follow, l.line[:0], p[end+1:]
	}
	return nil
}

// announced reads a length, which may be that of nothing (-1).
func announced(text []byte) (int64, error) {
	n, err := strconv.ParseInt(string(text[:min(len(text), 24)]), 10, 64)
	if err != nil || n < -1 {
		return 0, nonsense("announces %q as a length", text[:min(len(text), 24)])
	}
	if n > MostAnswer {
		return 0, nonsense("announces %d MiB, the limit is %d", n>>20, MostAnswer>>20)
	}
	return n, nil
}

// resp are the answers of Redis, in both versions of its protocol.
type resp struct {
	lines
	open  []int64 // elements of lists that are still to come, the outermost first
	total int64   // their sum
	bytes int64   // of the answer so far
}

func (r *resp) scan(p []byte) error {
	if r.each == nil {
		r.each = r.one
	}
	return r.lines.scan(p)
}

func (r *resp) one(line []byte) (follow int64, err error) {
	if len(line) == 0 {
		return 0, nonsense("sends an empty line, which RESP does not have")
	}
	r.bytes += int64(len(line))
	switch line[0] {
	case '*', '~', '>', '%', '|':
		n, err := announced(line[1:])
		if err != nil {
			return 0, err
		}
		if line[0] == '%' || line[0] == '|' {
			n *= 2
		}
		if line[0] == '|' {
			n++ // what has the attributes follows
		}
		if r.total+max(n, 0) > mostElements || len(r.open) == mostDeep {
			return 0, nonsense("announces lists of %d elements, %d deep", r.total+n, len(r.open)+1)
		}
		if n > 0 {
			r.open, r.total = append(r.open, n), r.total+n
			return 0, nil
		}
	case '$', '=', '!':
		n, err := announced(line[1:])
		if err != nil {
			return 0, err
		}
		if n >= 0 {
			follow = n + 2
		}
		if r.bytes += follow; r.bytes > MostAnswer {
			return 0, nonsense("sends an answer of more than %d MiB", MostAnswer>>20)
		}
	}
	for len(r.open) > 0 { // an element has come, and perhaps the lists with it that it ends
		last := len(r.open) - 1
		r.open[last]--
		r.total--
		if r.open[last] > 0 {
			return follow, nil
		}
		r.open = r.open[:last]
	}
	r.bytes = 0
	return follow, nil
}

// natsLines are what a server of NATS sends.
func natsLines() *lines {
	return &lines{each: func(line []byte) (int64, error) {
		verb, rest, _ := bytes.Cut(line, []byte(" "))
		if !bytes.EqualFold(verb, []byte("MSG")) && !bytes.EqualFold(verb, []byte("HMSG")) {
			return 0, nil
		}
		words := bytes.Fields(rest)
		if len(words) == 0 {
			return 0, nonsense("sends a message without its length")
		}
		n, err := announced(words[len(words)-1])
		if err == nil && len(words) > 1 && bytes.EqualFold(verb, []byte("HMSG")) {
			_, err = announced(words[len(words)-2])
		}
		return max(n, 0) + 2, err
	}}
}
