package engine

import (
	"time"

	"rillmark/internal/capture/rules"
	"rillmark/internal/change"
	"rillmark/internal/netguard"
)

// Kind is an engine as people choose it: what they define of a source of it, and how one
// is made. Package engines lists them.
type Kind struct {
	Name change.Engine
	// Title is the engine in a list for people.
	Title string
	// Bare is an engine of no source, whose interfaces say what it offers.
	Bare Engine
	// Connection makes an empty section connection of a source's definition, a pointer to
	// a struct that package settings describes.
	Connection func() Connection
	// CheckPosition refuses what is no place in the engine's log, and a place that cannot
	// be followed from over that connection.
	CheckPosition func(position string, c Connection) error
	// Make makes an engine; it reaches nothing yet.
	Make func(env Environment, d Definition) (Engine, error)
}

// Connection is an engine's section of a source's definition: how the database is
// reached, and what an administrator has made there for us.
type Connection interface {
	// Validate checks what can be checked without reaching the database, and fills in
	// what is left to us. The places in its errors begin with connection.
	Validate() error
	// Secure fills in, for a new source, what is to be checked of a connection that leaves
	// this machine where nothing is said of it.
	Secure()
	// Where is the database in a few words, Catalog its name as events carry it; empty where a source
	// is a whole server, and the names of tables have that of the database.
	Where() string
	Catalog() string
	// Login is as whom we connect.
	Login() string
	// Reaches is what decides to whom the secrets are shown.
	Reaches() []any
}

// Environment is what the service gives to the engines that it makes. A zero duration or
// size leaves it to the engine.
type Environment struct {
	// Dial reaches only what the service's policy lets an engine reach.
	Dial netguard.Dial
	// HeartbeatEvery is how often a message of ours goes into a source's log, RefreshEvery
	// how often it is looked at for new tables, SilenceAfter how long a server may send
	// nothing before its connection is considered dead.
	HeartbeatEvery, RefreshEvery, SilenceAfter time.Duration
	// ChunkBytes is how much of a table a load reads at a time.
	ChunkBytes int
}

// Definition is what one engine is made of.
type Definition struct {
	// Source is the source's name.
	Source string
	// Connection is valid, and its secrets are opened.
	Connection Connection
	Rules      rules.Set
	// HashKey is what columns are hashed under.
	HashKey []byte
	// Load says whether rows that exist already are read first, LoadOnly that the run
	// ends, with [ErrComplete], once all of them are.
	Load, LoadOnly bool
	// From, where not empty, is the place that is followed from the first time.
	From string
	// LoadSessions read at once while tables are loaded.
	LoadSessions int
	// LargestValue is the size in bytes above which a value is left out of its event.
	LargestValue int64
	// LeaveOut are the origins whose transactions bring no events of rows.
	LeaveOut rules.Origins
}
