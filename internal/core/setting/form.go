package setting

import "strconv"

// Form writes a value as one kind of place does: in its unit, and with its number
// for a special. It is what a reader undoes. What the place cannot hold, it writes
// as nothing. Which attribute has which form stands beside its reading, in the
// package of the format.
type Form func(v Value) string

// Scaled writes numbers in a unit, given in seconds where it is one of time, and
// specials as told.
func Scaled(unit int64, specials map[Special]string) Form {
	return func(v Value) string {
		if sp, ok := v.Special(); ok {
			return specials[sp]
		}
		n, ok := v.Number()
		if !ok || n%unit != 0 {
			return ""
		}
		return strconv.FormatInt(n/unit, 10)
	}
}

// Zero are the specials of places that write each as 0.
var Zero = map[Special]string{Never: "0", AtOnce: "0", UntilAdmin: "0", Unlimited: "0"}

// Plain writes a number as it is, and specials as 0.
var Plain = Scaled(1, Zero)

// Words writes a switch.
func Words(on, off string) Form {
	return func(v Value) string {
		switch v {
		case On:
			return on
		case Off:
			return off
		}
		return ""
	}
}

// OneZero writes a switch as 1 and 0.
var OneZero = Words("1", "0")

// Chosen writes a choice by its own word.
func Chosen(v Value) string { w, _ := v.Word(); return w }
