// Package verify compares the rows of a table with those that an outlet keeps of it, by
// content, while both change. It reads nothing itself: each side gives rows in the same
// canonical form, and the service says when the outlet has passed a moment.
//
// A difference counts only once it holds: the rows of its key are read at the source, the
// outlet passes that moment, and they are read again on both sides. If the source's has not
// changed meanwhile and the target's is another, twice in a row, it is one.
package verify
