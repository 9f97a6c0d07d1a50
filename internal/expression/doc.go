// Package expression is the language of conditions and of columns that are worked out: CEL,
// with exact decimals, numbers of every type side by side, and functions of one's own. A
// source's rules, an outlet's conditions and the forms of its rows all use it. It is pure.
//
//   - [Condition] is about a row, [EventCondition] about an event; each is parsed once and bound
//     to each schema version. condition.go, eventcondition.go.
//   - plain.go works comparisons of columns out without the interpreter and without memory.
//   - verdict.go says what a condition's answers before and after a change make of the change.
//   - [Formulas] are the functions that formulas may use, and [Formula] is a column by an
//     expression. functions.go, formula.go; valuekind.go has the types that it may have.
//   - decimal.go, equality.go and numbertext.go make numbers exact; columnvalue.go is what a
//     column's value is in the language; suggest.go says what a wrong name may have meant.
package expression
