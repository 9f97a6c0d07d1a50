// Package postgresql keeps tables of a PostgreSQL database equal to a source's.
//
//   - kind.go is what people define, check.go what is looked at beforehand.
//   - writer.go puts batches into transactions, with the outlet's offset (state.go) in each.
//   - tables.go knows the tables there, makes and alters them; types.go and text.go say how
//     a value of the source's is held and written.
//   - setwise.go writes many rows at once, single.go one after another: where there are few,
//     and where the server refuses one of them. versions.go keeps every version.
//   - reload.go takes out what a load did not bring.
package postgresql
