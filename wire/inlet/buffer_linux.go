package inlet

import (
	"net"
	"syscall"
)

// grow asks for a large buffer: beyond the system's limit where this process may.
func grow(c *net.UDPConn) {
	_ = c.SetReadBuffer(buffer)
	raw, err := c.SyscallConn()
	if err != nil {
		return
	}
	_ = raw.Control(func(fd uintptr) {
		_ = syscall.SetsockoptInt(int(fd), syscall.SOL_SOCKET, syscall.SO_RCVBUFFORCE, buffer)
	})
}
