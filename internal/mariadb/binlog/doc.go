// Package binlog decodes the events of MariaDB's binary log. It is pure: what it is given
// is one event as a server sends it, what it returns points into that.
//
//   - event.go is the frame that all events share, with its checksum.
//   - One file each for the events that matter: formatdescription.go, rotate.go, gtid.go,
//     gtidlist.go, query.go, tablemap.go (with metadata.go for its optional part), rows.go,
//     xaprepare.go, incident.go.
//   - compressed.go undoes what log_bin_compress does.
//
// Whatever is too short, or counts more than the event can hold, is an error that wraps
// [ErrMalformed]; nothing is allocated by a count before it is checked.
package binlog
