// Package cable is a connection between two programs that tests can cut.
package cable

import (
	"io"
	"net"
	"sync"
	"sync/atomic"
)

// A Cable leads to another address, and can be cut: tests put it between two programs.
type Cable struct {
	Address string
	to      []string
	turn    atomic.Int64
	l       net.Listener
	out     atomic.Bool
	Carried atomic.Int64 // connections so far
	Life    atomic.Int64 // a connection breaks when so many bytes came over it; 0: none does

	mu  sync.Mutex
	all map[net.Conn]bool
}

// New lays a cable. Of several ends each connection takes the next that answers.
func New(to ...string) (*Cable, error) {
	l, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return nil, err
	}
	c := &Cable{Address: l.Addr().String(), to: to, l: l, all: map[net.Conn]bool{}}
	go c.serve()
	return c, nil
}

func (c *Cable) serve() {
	for {
		in, err := c.l.Accept()
		if err != nil {
			return
		}

		if c.out.Load() {
			in.Close()
			continue
		}

		out := c.dial()
		if out == nil {
			in.Close()
			continue
		}

		c.Carried.Add(1)
		c.mu.Lock()
		c.all[in], c.all[out] = true, true
		c.mu.Unlock()
		go func() {
			_, _ = io.Copy(out, in) // it ends when either is closed
			c.close(in, out)
		}()
		go func() {
			if life := c.Life.Load(); life > 0 {
				_, _ = io.CopyN(in, out, life)
			} else {
				_, _ = io.Copy(in, out)
			}
			c.close(in, out)
		}()
	}
}

func (c *Cable) dial() net.Conn {
	for range c.to {
		if out, err := net.Dial("tcp", c.to[int(c.turn.Add(1))%len(c.to)]); err == nil {
			return out
		}
	}
	return nil
}

func (c *Cable) close(list ...net.Conn) {
	c.mu.Lock()
	defer c.mu.Unlock()
	for _, x := range list {
		x.Close()
		delete(c.all, x)
	}
}

// Cut breaks the present connections.
func (c *Cable) Cut() {
	c.mu.Lock()
	defer c.mu.Unlock()
	for x := range c.all {
		x.Close()
	}
	clear(c.all)
}

// Pull cuts, and allows no connection until Plug.
func (c *Cable) Pull() {
	c.out.Store(true)
	c.Cut()
}

// Plug allows connections again.
func (c *Cable) Plug() { c.out.Store(false) }

// Close removes the cable.
func (c *Cable) Close() {
	c.l.Close()
	c.Pull()
}
