//go:build !linux

package file

import "os"

func opened(path string) (*os.File, error) { return os.OpenFile(path, os.O_RDONLY|nonblock, 0) }
