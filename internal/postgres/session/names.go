package session

import "strings"

// StatementPrefix is the prefix of the messages that the event trigger writes.
const StatementPrefix = "rillmark statement"

// PostgresEpoch is 2000-01-01 UTC in microseconds since 1970.
const PostgresEpoch = 946_684_800_000_000

func identifier(source string) string { return "rillmark_" + strings.ReplaceAll(source, "-", "_") }

const (
	// MarkPrefix is the prefix of our own messages in the source's log.
	MarkPrefix = "rillmark"
	// PresentMark is one that only shows how far the log reaches.
	PresentMark = "present"
)

func (c *Config) SlotName() string {
	if c.Slot != "" {
		return c.Slot
	}
	return identifier(c.Source)
}

// Publications are the one for tables whose updates and deletes may be
// published and, where it is ours, the one for those where they may not.
func (c *Config) Publications() []string {
	if c.Publication != "" {
		return []string{c.Publication}
	}
	if c.Borrowed != nil {
		return c.Borrowed
	}
	name := identifier(c.Source)
	return []string{name, name + "_inserts"}
}

// PublishFunction is the administrator's function that lets the login publish
// what the source's rules choose, though it does not own it.
func (c *Config) PublishFunction() string { return "rillmark." + Quoted("publish_"+c.Source) }
