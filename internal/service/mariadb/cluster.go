//go:build cluster

package mariadb

import (
	"context"
	"database/sql"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"strconv"
	"strings"
	"time"

	"idletally/internal/loopback"
)

// A Cluster is several servers with the same content (Galera), each on ports of its own on loopback.
type Cluster struct {
	Nodes  []*Node
	secret []byte
}

// A Node is one of them. Its server is nil while it is down.
type Node struct {
	*Server
	place
	port, group, gradual, whole int // for clients, the group, and what a node gets that was away: the rest, or all
}

const provider = "/usr/lib/galera/libgalera_smm.so"

// StartCluster starts so many nodes.
func StartCluster(ctx context.Context, dir string, n int) (*Cluster, error) {
	for _, f := range []string{provider, "/usr/bin/wsrep_sst_rsync", "/usr/bin/rsync"} {
		if _, err := os.Stat(f); err != nil {
			return nil, fmt.Errorf("a cluster needs Debian's packages mariadb-server, galera-4 and rsync: %w", err)
		}
	}

	c := &Cluster{}
	for i := range n {
		p, err := prepare(filepath.Join(dir, fmt.Sprintf("node%d", i+1)))
		if err != nil {
			return nil, err
		}

		node := &Node{place: p}
		for _, port := range []*int{&node.port, &node.group, &node.gradual, &node.whole} {
			if *port, err = loopback.FreePort(); err != nil {
				return nil, err
			}
		}

		c.Nodes = append(c.Nodes, node)
	}

	var err error
	if c.secret, err = c.Nodes[0].secret(ctx); err != nil {
		return nil, err
	}

	for i, node := range c.Nodes {
		if i > 0 { // all comes from the first
			if err := os.MkdirAll(node.data, 0o700); err != nil {
				return nil, err
			}
			if err := give(node.data, node.account); err != nil {
				return nil, err
			}
		}
		if err := c.start(ctx, node, i == 0); err != nil {
			c.Stop()
			return nil, fmt.Errorf("node %d: %w", i+1, err)
		}
	}

	return c, nil
}

// DSN returns a data source name that lists all nodes, node first leading.
func (c *Cluster) DSN(first int) string {
	var at []string
	for i := range c.Nodes {
		at = append(at, fmt.Sprintf("127.0.0.1:%d", c.Nodes[(first+i)%len(c.Nodes)].port))
	}
	return fmt.Sprintf("idletally:%s@tcp(%s)/idletally", c.secret, strings.Join(at, ","))
}

// Start starts a node that is down.
func (c *Cluster) Start(ctx context.Context, n int) error { return c.start(ctx, c.Nodes[n], false) }

func (c *Cluster) start(ctx context.Context, n *Node, first bool) (err error) {
	others := "gcomm://"
	if !first {
		var all []string
		for _, x := range c.Nodes {
			all = append(all, fmt.Sprintf("127.0.0.1:%d", x.group))
		}
		others += strings.Join(all, ",")
	}

	own := func(port int) string { return "127.0.0.1:" + strconv.Itoa(port) }
	options := []string{
		"base_host=127.0.0.1",
		"base_port=" + strconv.Itoa(n.group),
		"gmcast.listen_addr=tcp://" + own(n.group),
		"ist.recv_addr=" + own(n.gradual),
		"gcache.size=64M",
	}

	n.Server, err = n.place.start(ctx, n.port, c.secret, "--wsrep-on=ON", "--wsrep-provider="+provider,
		"--wsrep-cluster-name=idletally", "--wsrep-cluster-address="+others,
		"--wsrep-node-address=127.0.0.1", "--wsrep-node-name="+filepath.Base(n.dir),
		"--wsrep-provider-options="+strings.Join(options, ";"),
		"--wsrep-sst-method=rsync", "--wsrep-sst-receive-address="+own(n.whole), "--binlog-format=ROW",
		"--innodb-autoinc-lock-mode=2", "--wsrep-slave-threads=2")

	if err != nil {
		return err
	}

	return n.joined(ctx)
}

// joined waits until a node is part of the cluster.
func (n *Node) joined(ctx context.Context) error {
	db, err := sql.Open("mysql", n.Server.DSN)
	if err != nil {
		return err
	}
	defer db.Close()
	for end := time.Now().Add(time.Minute); time.Now().Before(end); {
		var name, ready string
		if err := db.QueryRowContext(ctx, "SHOW STATUS LIKE 'wsrep_ready'").Scan(&name, &ready); err == nil &&
			ready == "ON" {
			return nil
		}
		select {
		case <-n.exited:
			return errEnded
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(100 * time.Millisecond):
		}
	}

	return errors.New("the node did not join within a minute")
}

// Kill ends a node as a power cut would.
func (c *Cluster) Kill(n int) {
	c.Nodes[n].Server.Kill()
	c.Nodes[n].Server = nil
}

// Stop ends all nodes.
func (c *Cluster) Stop() {
	for _, n := range c.Nodes {
		if n.Server != nil {
			n.Server.Stop()
			n.Server = nil
		}
	}
}
