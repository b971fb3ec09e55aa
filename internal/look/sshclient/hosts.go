package sshclient

import (
	"bufio"
	"io"
	"path/filepath"
	"slices"
	"strings"

	"uakari/internal/look/file"
)

// mostHosts bounds how many hosts a pattern gives.
const mostHosts = 20_000

// Hosts is the hosts that the user's settings name by their whole name, as far
// as a pattern fits them, in their order.
func Hosts(pattern string) []string {
	f, err := file.Open(Home("~/.ssh/config"))
	if err != nil {
		return nil
	}
	defer f.Close()
	var list []string
	for scan := bufio.NewScanner(io.LimitReader(f, mostSSHConfig)); scan.Scan(); {
		keyword, names := sshLine(scan.Text())
		if keyword != "host" {
			continue
		}
		for _, name := range names {
			ok, err := filepath.Match(pattern, name)
			if err == nil && ok && !strings.ContainsAny(name, "*?!") && !slices.Contains(list, name) &&
				len(list) < mostHosts {
				list = append(list, name)
			}
		}
	}
	return list
}
