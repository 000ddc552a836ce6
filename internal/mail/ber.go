package mail

// Limits of what is read in BER (X.690), by which signed letters are wrapped up.
const (
	maxBER      = 4 << 20 // bytes
	berLevels   = 40
	maxElements = 100_000
)

// tame reports whether something in BER can be given to a reader that goes down
// by calling itself: its elements lie no deeper, and are no more, than any
// program's, and none ends after what it lies in.
func tame(b []byte) bool {
	if len(b) > maxBER {
		return false
	}
	var ends []int // of those that are open; -1: at its mark of an end
	for at, n := 0, 0; at < len(b); n++ {
		for len(ends) > 0 && ends[len(ends)-1] == at {
			ends = ends[:len(ends)-1]
		}
		if len(ends) == 0 && n > 0 {
			return true // what follows is not read
		}
		if n > maxElements || len(ends) > berLevels {
			return false
		}
		if len(ends) > 0 && ends[len(ends)-1] == -1 && at+1 < len(b) && b[at] == 0 && b[at+1] == 0 {
			ends, at = ends[:len(ends)-1], at+2
			continue
		}
		inner, size, end, ok := element(b, at)
		if !ok {
			return false
		}
		for i := len(ends) - 1; i >= 0; i-- {
			if ends[i] >= 0 {
				if end > ends[i] || inner > ends[i] {
					return false
				}
				break
			}
		}
		switch constructed := b[at]&0x20 != 0; {
		case constructed && size < 0:
			ends, at = append(ends, -1), inner
		case constructed:
			ends, at = append(ends, end), inner
		case size < 0:
			return false // X.690, 8.1.3.2: only what is constructed has no length
		default:
			at = end
		}
	}
	return true
}

// element reads the head of one: where what is in it begins and ends. A size
// below 0 is none that is said.
func element(b []byte, at int) (inner, size, end int, ok bool) {
	if at++; at < len(b) && b[at-1]&0x1f == 0x1f { // a long tag
		for at < len(b) && b[at] >= 0x80 {
			at++
		}
		at++
	}
	if at >= len(b) {
		return 0, 0, 0, false
	}
	l := int(b[at])
	if at++; l == 0x80 {
		return at, -1, at, true
	}
	if l > 0x80 {
		n := l & 0x7f
		if n > 4 || at+n > len(b) {
			return 0, 0, 0, false
		}
		l = 0
		for _, x := range b[at : at+n] {
			l = l<<8 | int(x)
		}
		at += n
	}
	return at, l, at + l, l <= len(b)-at
}
