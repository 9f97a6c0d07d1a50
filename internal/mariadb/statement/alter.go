package statement

import "strings"

// alter reads an ALTER.
func (r *reader) alter() []Effect {
	r.skipAny("ONLINE", "OFFLINE")
	ignores := r.skip("IGNORE") // rows that have no place any more
	r.skipAny("ONLINE", "OFFLINE")
	if !r.skip("TABLE") {
		return r.createOther()
	}
	r.skip("IF", "EXISTS")
	t, ok := r.table()
	if !ok {
		return unknown()
	}
	r.waits()
	effects := []Effect{{Kind: Alter, Tables: []Table{t}, Lossy: r.lossy}}
	for len(r.all) > 0 {
		more, ok := r.alteration(t, &effects[0])
		if !ok {
			return unknown()
		}
		effects = append(effects, more...)
	}
	if ignores {
		effects = append(effects, Effect{Kind: Rewrite, Tables: []Table{t}})
	}
	return effects
}

// alteration reads one part of an ALTER TABLE, up to the comma behind it. What it adds to
// the effects comes behind the change of the columns.
func (r *reader) alteration(t Table, change *Effect) (more []Effect, ok bool) {
	defines := r.peek().is("CHANGE") || r.peek().is("MODIFY") || r.peek().is("CONVERT")
	switch {
	case r.skip("RENAME"):
		switch {
		case r.skip("COLUMN"):
			r.skip("IF", "EXISTS")
			from := r.next()
			if !r.skip("TO") {
				return nil, false
			}
			change.Columns = append(change.Columns, [2]string{from.text, r.next().text})
		case r.skip("INDEX"), r.skip("KEY"):
		default:
			if !r.skip("TO") && !r.skip("AS") {
				r.sign("=")
			}
			to, ok := r.table()
			if !ok {
				return nil, false
			}
			more = append(more, Effect{Kind: Rename, Tables: []Table{t}, To: []Table{to}})
		}
	case r.skip("CHANGE"):
		r.skip("COLUMN")
		r.skip("IF", "EXISTS")
		from, to := r.next(), r.next()
		if !from.isName() || !to.isName() {
			return nil, false
		}
		change.Columns = append(change.Columns, [2]string{from.text, to.text})
		if kind := r.peek(); kind.kind == word {
			change.Defined = append(change.Defined, Column{Name: to.text, Type: strings.ToLower(kind.text)})
		}
	case r.skip("MODIFY"):
		r.skip("COLUMN")
		r.skip("IF", "EXISTS")
		r.definition(change, false)
	case r.skip("ADD"):
		r.skip("COLUMN")
		r.skip("IF", "NOT", "EXISTS")
		if r.sign("(") {
			inside := Effect{}
			r.all = append([]token{{kind: sign, text: "("}}, r.all...)
			r.definitions(&inside)
			for _, c := range inside.Defined {
				c.Added = true
				change.Defined = append(change.Defined, c)
			}
			break
		}
		r.definition(change, true)
	case r.skip("EXCHANGE", "PARTITION"):
		r.next()
		if !r.skip("WITH", "TABLE") {
			return nil, false
		}
		other, ok := r.table()
		if !ok {
			return nil, false
		}
		more = append(more, Effect{Kind: Rewrite, Tables: []Table{t, other}})
	case r.skip("DROP", "PARTITION"), r.skip("TRUNCATE", "PARTITION"), r.skip("REPAIR", "PARTITION"), r.skip("DISCARD"), r.skip("IMPORT"), r.skip("DROP", "SYSTEM", "VERSIONING"):
		more = append(more, Effect{Kind: Rewrite, Tables: []Table{t}})
	case r.skip("DROP"):
		if !r.skip("COLUMN") && r.skipOne("PRIMARY", "INDEX", "KEY", "FOREIGN", "CONSTRAINT", "CHECK", "PERIOD", "SYSTEM") {
			break
		}
		r.skip("IF", "EXISTS")
		if name := r.next(); name.isName() {
			change.Dropped = append(change.Dropped, name.text)
		}
	case r.skip("ENGINE"):
		if r.sign("="); r.peek().is("BLACKHOLE") {
			more = append(more, Effect{Kind: Rewrite, Tables: []Table{t}})
		}
	case r.skip("CONVERT", "PARTITION"), r.skip("CONVERT", "TABLE"):
		more = append(more, Effect{Kind: Rewrite, Tables: append(r.mentioned(), t)})
	}
	// On to the comma that is in no brackets.
	for depth := 0; len(r.all) > 0; {
		switch s := r.next(); {
		case s.kind != sign && defines:
			r.redefines(s, change)
		case s.kind != sign:
		case s.text == "(":
			depth++
		case s.text == ")":
			depth--
		case s.text == "," && depth == 0:
			return more, true
		}
	}
	return more, true
}

// redefines looks at a word of a column's new definition.
func (r *reader) redefines(word token, change *Effect) {
	switch {
	case word.is("CHARACTER") && r.skip("SET"), word.is("CHARSET"), word.is("COLLATE"):
		r.sign("=")
		change.Recoded = change.Recoded || !strings.HasPrefix(strings.ToLower(r.peek().text), "utf8mb4")
	case word.is("AS"), word.is("GENERATED"):
		change.Generated = true
	}
}
