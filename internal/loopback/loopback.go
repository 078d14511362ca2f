// Package loopback finds room for private servers.
package loopback

import "net"

// FreePort gives a port of loopback that nobody listens on now.
func FreePort() (int, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return 0, err
	}
	defer l.Close()
	return l.Addr().(*net.TCPAddr).Port, nil
}
