// Package loopback finds room for private servers.
package loopback

import (
	"errors"
	"fmt"
	"math/rand/v2"
	"net"
)

// Ports that no system gives to connections of its own accord, which could otherwise take one before its server does.
const (
	firstPort = 10_240
	lastPort  = 32_767
	tries     = 100
)

// FreePort returns a port of loopback on which nobody listens now.
func FreePort() (port int, err error) {
	for range tries {
		port := firstPort + rand.IntN(lastPort-firstPort+1)
		l, failed := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
		if failed == nil {
			return port, l.Close()
		}
		err = failed
	}
	return 0, errors.Join(errors.New("no port of loopback is free"), err)
}
