// Package change is the model that every other part of Rillmark speaks: an
// event and its values, the schema version that says how to read them, the
// operation, and the fold that turns events back into a table.
//
// In the order in which a newcomer needs it:
//
//   - [Operation] names what happened to a row or a table.
//   - [Schema] is one version of a table's definition; its fingerprint names it
//     for ever. [Rule] says how a column's values are written.
//   - [Value] is one column's value in canonical text, or null, or omitted.
//   - [Event] is one change as the journal holds it.
//   - [Fold] applies events to a table in memory by the written rules.
//
// The package is pure: it opens nothing, starts no goroutine and knows neither
// a database's wire format nor a destination's.
package change
