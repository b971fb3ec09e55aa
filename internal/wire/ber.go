package wire

// berOf writes one element with a definite length.
func berOf(tag byte, body []byte) []byte {
	out := []byte{tag}
	if len(body) < 128 {
		out = append(out, byte(len(body)))
	} else {
		out = append(out, 0x82, byte(len(body)>>8), byte(len(body)))
	}
	return append(out, body...)
}
