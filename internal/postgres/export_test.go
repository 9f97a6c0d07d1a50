package postgres

// Quoted and Literal are how names and texts are written into statements.
var Quoted, Literal = quoted, literal
