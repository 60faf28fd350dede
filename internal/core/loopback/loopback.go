// Package loopback tells which hosts are this machine itself.
package loopback

import (
	"net/netip"
	"strings"
)

// Is reports whether host, a name or an address with or without brackets, is this machine's own.
func Is(host string) bool {
	host = strings.Trim(host, "[]")
	if strings.EqualFold(host, "localhost") {
		return true
	}
	address, err := netip.ParseAddr(host)
	return err == nil && address.Unmap().IsLoopback()
}
