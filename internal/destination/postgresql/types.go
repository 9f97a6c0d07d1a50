package postgresql

import (
	"fmt"
	"regexp"
	"strings"

	"rillmark/internal/change"
)

// byRule are types that hold every value of a rule.
var byRule = map[change.Rule]string{
	change.RuleBoolean: "boolean", change.RuleUnsigned: "numeric(20,0)", change.RuleDecimal: "numeric", change.RuleText: "text", change.RuleUUID: "uuid",
	change.RuleDate: "date", change.RuleTime: "time without time zone", change.RuleTimeTZ: "time with time zone", change.RuleTimestamp: "timestamp without time zone", change.RuleTimestampTZ: "timestamp with time zone",
	change.RuleDuration: "interval", change.RuleBinary: "bytea", change.RuleJSON: "jsonb", change.RuleEnum: "text", change.RuleEngineText: "text",
}

func ofRule(rule change.Rule, bits int) string {
	switch rule {
	case change.RuleInteger:
		switch bits {
		case 8, 16:
			return "smallint"
		case 24, 32:
			return "integer"
		}
		return "bigint"
	case change.RuleFloat:
		if bits == 32 {
			return "real"
		}
		return "double precision"
	default:
	}
	if t := byRule[rule]; t != "" {
		return t
	}
	return "text"
}

// generalType is a type that holds every value of a column, of a server's own types.
func generalType(c *change.Column) string {
	if c.Treatment != "" {
		return "text"
	}
	if c.Rule == change.RuleArray {
		return ofRule(c.Element, c.Bits) + "[]"
	}
	return ofRule(c.Rule, c.Bits)
}

var (
	decimal = regexp.MustCompile(`^decimal\((\d+),(\d+)\)`)
	bits    = regexp.MustCompile(`^bit\((\d+)\)`)
)

// ofMariaDB is the type for a column of a MariaDB source; docs/outlets/postgresql.md has the
// table.
func ofMariaDB(c *change.Column) string {
	kind := strings.ToLower(c.Type)
	if c.Treatment == "" {
		switch d := decimal.FindStringSubmatch(kind); {
		case d != nil:
			return "numeric(" + d[1] + "," + d[2] + ")"
		case strings.HasPrefix(kind, "time") && c.Rule == change.RuleTime:
			return "interval" // it may be negative, and longer than a day
		case bits.MatchString(kind):
			return "numeric(20,0)"
		}
	}
	return generalType(c)
}

// ofThisServer are types whose values name something of the server that they are on.
var ofThisServer = regexp.MustCompile(`^(reg[a-z]+|aclitem)(\[\])*$`)

// wanted is the type that a column of a source gets where its table is made here.
func wanted(e change.Engine, c *change.Column) string {
	switch {
	case e == change.MariaDB:
		return ofMariaDB(c)
	case c.Treatment != "" || ofThisServer.MatchString(c.Type):
		return generalType(c)
	}
	return c.Type
}

// enumStatement makes an enum type with its labels.
func enumStatement(name string, labels []string) string {
	quoted := make([]string, len(labels))
	for i, label := range labels {
		quoted[i] = literal(label)
	}
	return fmt.Sprintf("CREATE TYPE %s AS ENUM (%s)", name, strings.Join(quoted, ", "))
}
