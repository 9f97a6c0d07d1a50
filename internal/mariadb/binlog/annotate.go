package binlog

// DecodeAnnotate is the text of the statement whose rows follow, as its client wrote it.
func DecodeAnnotate(body []byte) []byte { return body }
