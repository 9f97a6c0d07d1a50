// Package change is the model that every other part of Rillmark speaks: an
// event and its values, the schema version that says how to read them, the
// operation, and what a row is on its way into a journal.
//
// In the order in which a newcomer needs it:
//
//   - [Operation] names what happened to a row or a table.
//   - [Schema] is one version of a table's definition; its fingerprint names it
//     permanently. [Rule] says how a column's values are written.
//   - [Value] is one column's value in canonical text, or null, or omitted.
//   - [Row] is one change on its way into a journal, [Event] one in it.
//   - [RowKey] makes one string of a key.
//
// The package is pure: it opens nothing, starts no goroutine and knows neither
// a database's wire format nor a destination's.
package change
