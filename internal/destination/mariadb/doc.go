// Package mariadb keeps tables of a MariaDB database equal to the source's. What such outlets
// share with other databases is in package sql; here are MariaDB's own statements and types.
//
// All statements are texts with their values in them, so that many go to the server in one
// go. The sql_mode of the session makes that safe and exact: nothing but a quote needs an
// escape, and what a column does not hold is an error. Where the server only warns (decimals
// that are rounded), the row is refused, too.
//
// MariaDB commits at each statement that makes or alters a table (see
// [sql.Dialect.TransactionalDefinitions]): one that is needed while a transaction is open is
// run over a second session. Temporary tables, in which rows are staged, are emptied by
// DELETE: TRUNCATE would commit as well.
package mariadb
