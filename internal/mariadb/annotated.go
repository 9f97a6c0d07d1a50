package mariadb

import (
	"slices"
	"strings"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/mariadb/statement"
)

// statementPrefix is the prefix of messages that are the text of a statement.
const statementPrefix = "statement"

// annotated is the text of the statement behind the rows that follow, as far as it may be
// shown: the values of private columns and of rows that the rules keep out may stand in it,
// of whatever table the statement reads.
func (r *run) annotated(body []byte) string {
	text := string(body)
	if slices.ContainsFunc(r.config.Rules, func(rule rules.Table) bool { return rule.Private() || rule.Filter != nil }) {
		text = statement.WithoutValues(text)
	}
	if len(text) > maxStatement {
		text = strings.ToValidUTF8(text[:maxStatement], "")
	}
	return text
}

// addStatement adds the statement at hand, ahead of the first of its rows that is captured and
// in the same unit; a unit is open.
func (r *run) addStatement() {
	if r.tx.statement == "" {
		return
	}
	r.sink.Add(&change.Row{Operation: change.Message, Place: r.tx.place, Body: change.MessageBody(statementPrefix, []byte(r.tx.statement))})
	r.tx.statement = ""
}
