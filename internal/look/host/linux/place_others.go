//go:build linux && !amd64

package linux

// deniedHere is calls that only this processor's kernel has.
var deniedHere []uint32
