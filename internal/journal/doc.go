// Package journal is the ordered, durable record of a source's events: the one
// place that promises gapless offsets, exactly one entry for each change, and
// one writer at a time.
//
//   - [Builder] collects events into a block, in our own binary form.
//   - [Store] keeps journals in PostgreSQL; [Store.TakeOver] makes this process
//     the one writer of a source's journal and fences off whoever was before.
//   - [Writer.Append] moves data, next offset and the source's position in one
//     transaction.
//   - [Store.Reader] reads from any offset and waits at the end.
//
// A block row's data is: format version (1 byte), codec (1 byte), CRC-32C of the
// row's other columns and of what follows (4 bytes each, big endian), sections, and
// the payload under that codec. A reader holds that blocks adjoin: one that is
// missing or damaged is an error ([Damage]), never passed over. The payload is a run of entries, each with a tag: a section (what follows refers
// to nothing before it), a table, perhaps for one outlet alone, a transaction, an event, a number of
// events that are no longer kept. Two payloads put one
// behind the other are a payload again; that is how small blocks are merged.
package journal
