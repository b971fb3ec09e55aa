//go:build !unix

package file

const nonblock = 0
