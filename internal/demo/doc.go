// Package demo starts Rillmark with everything around it on one machine, with
// made-up data: the circulation of an invented city's library network.
//
// [Cluster] runs a PostgreSQL of its own on loopback, [MariaDB] a MariaDB server; the tests
// use them too. [Library] and [Catalogue] are the schemas, the first rows and the working day. [Run] puts them
// together for `rillmark demo`.
package demo
