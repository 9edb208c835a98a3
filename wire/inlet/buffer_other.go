//go:build !linux

package inlet

import "net"

// grow asks for a large buffer.
func grow(c *net.UDPConn) { _ = c.SetReadBuffer(buffer) }
