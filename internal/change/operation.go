package change

import "fmt"

// Operation says what an event records. The zero value is none of them.
type Operation uint8

// The operations, in the numbering of the journal's binary form: a number, once
// given, is never given again.
const (
	Existing      Operation = iota + 1 // a row that a load found
	Insert                             // a row came into being
	Update                             // a row's values changed, its key did not
	Delete                             // a row went
	Truncate                           // every row of the table went at once
	Definition                         // a new schema version holds from here on
	Loaded                             // a load of the table is complete
	Void                               // earlier rows of the table no longer hold
	Message                            // an application wrote into the log on purpose
	lastOperation = Message

	// OperationCount is the length of a list that has a place for each.
	OperationCount = int(lastOperation) + 1
)

var operationNames = [...]string{
	Existing: "existing", Insert: "insert", Update: "update", Delete: "delete",
	Truncate: "truncate", Definition: "schema", Loaded: "loaded", Void: "void",
	Message: "message",
}

var operationTypes = [...]string{
	Existing: "rillmark.row.existing", Insert: "rillmark.row.insert",
	Update: "rillmark.row.update", Delete: "rillmark.row.delete",
	Truncate: "rillmark.table.truncate", Definition: "rillmark.table.schema",
	Loaded: "rillmark.table.loaded", Void: "rillmark.table.void",
	Message: "rillmark.log.message",
}

// Valid reports whether o is one of the operations.
func (o Operation) Valid() bool { return o >= Existing && o <= lastOperation }

// String is the operation as it is spelled in events and commands.
func (o Operation) String() string {
	if !o.Valid() {
		return fmt.Sprintf("operation(%d)", uint8(o))
	}
	return operationNames[o]
}

// EventType is the CloudEvents type of an event with this operation.
func (o Operation) EventType() string {
	if !o.Valid() {
		return "rillmark.unknown"
	}
	return operationTypes[o]
}

// IsRow reports whether the event carries a row.
func (o Operation) IsRow() bool { return o >= Existing && o <= Delete }

// ParseOperation reads an operation as it is spelled in definitions.
func ParseOperation(s string) (Operation, error) {
	for o := Existing; o <= lastOperation; o++ {
		if operationNames[o] == s {
			return o, nil
		}
	}
	return 0, fmt.Errorf("unknown operation %q: use one of existing, insert, update, delete, truncate, schema, loaded, void, message", s)
}
