//go:build !windows

package names

const systemHosts = "/etc/hosts"
