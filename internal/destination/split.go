package destination

import "rillmark/internal/encode"

// Blame says what an error of sending several messages together means.
type Blame int

// The meanings of an error: of the destination as a whole, of one of the messages
// for good, or of one of them for now.
const (
	BlameNone Blame = iota
	BlameOne
	BlameOneForNow
)

// SplitOnError sends messages of a batch, which part lists by their indexes, together
// and, where one of them is to blame for an error, in halves, until that one is
// alone: it is refused, and those of its row wait behind it. What the destination
// took of a part that failed goes to it again with its half, so that no message
// stays behind a later one of its row. Any other error ends it.
func SplitOnError(messages []encode.Message, part []int, behind *Behind, send func(part []int) error, blame func(error) Blame) ([]Refusal, error) {
	var refused []Refusal
	going := make([]int, 0, len(part))
	for _, i := range part {
		if behind.Waits(&messages[i]) {
			refused = append(refused, Refusal{Index: i})
		} else {
			going = append(going, i)
		}
	}
	if len(going) == 0 {
		return refused, nil
	}
	err := send(going)
	if err == nil {
		return refused, nil
	}
	of := blame(err)
	if of == BlameNone {
		return refused, err
	}
	if len(going) == 1 {
		m := &messages[going[0]]
		if of == BlameOneForNow {
			behind.Failed(m)
		} else {
			behind.Refused(m)
		}
		return append(refused, Refusal{Index: going[0], Err: err, Temporary: of == BlameOneForNow}), nil
	}
	half := len(going) / 2
	for _, one := range [][]int{going[:half], going[half:]} {
		found, err := SplitOnError(messages, one, behind, send, blame)
		if err != nil {
			return refused, err
		}
		refused = append(refused, found...)
	}
	return refused, nil
}
