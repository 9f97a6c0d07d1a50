package expression

import "bytes"

// compareNumbers orders two numbers by their canonical texts, as PostgreSQL orders its
// numeric: exactly, with NaN above infinity. It takes no memory.
func compareNumbers(a, b []byte) int {
	x, y := numberClass(a), numberClass(b)
	switch {
	case x < y:
		return -1
	case x > y:
		return 1
	case x == negativeNumber:
		return compareDigits(b[1:], a[1:])
	case x == positiveNumber:
		return compareDigits(a, b)
	}
	return 0
}

// The classes of numbers, in their order.
const (
	negativeInfinity = iota
	negativeNumber
	zeroNumber
	positiveNumber
	positiveInfinity
	noNumber // NaN
)

func numberClass(text []byte) int {
	negative := len(text) > 0 && text[0] == '-'
	digits := text
	if negative {
		digits = text[1:]
	}
	switch {
	case len(digits) > 0 && digits[0] == 'N':
		return noNumber
	case len(digits) > 0 && digits[0] == 'I' && negative:
		return negativeInfinity
	case len(digits) > 0 && digits[0] == 'I':
		return positiveInfinity
	case len(bytes.Trim(digits, "0.")) == 0:
		return zeroNumber
	case negative:
		return negativeNumber
	}
	return positiveNumber
}

// compareDigits orders two numbers without signs.
func compareDigits(a, b []byte) int {
	wholeA, partA, _ := bytes.Cut(a, []byte("."))
	wholeB, partB, _ := bytes.Cut(b, []byte("."))
	wholeA, wholeB = bytes.TrimLeft(wholeA, "0"), bytes.TrimLeft(wholeB, "0")
	switch {
	case len(wholeA) < len(wholeB):
		return -1
	case len(wholeA) > len(wholeB):
		return 1
	}
	if order := bytes.Compare(wholeA, wholeB); order != 0 {
		return order
	}
	return bytes.Compare(bytes.TrimRight(partA, "0"), bytes.TrimRight(partB, "0"))
}
