// Package values turns a column's values, as they stand in the log and as a SELECT brings
// them, into the canonical text of the column's rule (see [change.Rule]). Both ways give
// the same text for the same value: a load and the log agree.
//
//   - column.go says of a column which rule it has and how its values are read.
//   - log.go, temporal.go and decimal.go read the forms of the log.
//   - selected.go reads the text that a SELECT brings, in the column's own character set.
package values
