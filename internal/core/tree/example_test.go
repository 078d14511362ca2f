package tree_test

import (
	"context"
	"fmt"

	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
	"idletally/internal/core/tree"
)

// Two hosts with the same permissions have the same root hash; one chmod, and only what leads to it differs.
func Example() {
	m := tree.Memory{}
	host := func(ledger posix.State) tree.Hash {
		below := m.Add(tree.Node{Entries: []tree.Entry{{Name: "ledger", Kind: perm.File, Set: ledger.Set()}}})
		top := tree.Entry{Name: "/srv", Kind: perm.Folder, Set: posix.State{Mode: 0o755}.Set(), Child: below}
		return m.Add(tree.Node{Forest: true, Entries: []tree.Entry{top}})
	}

	north, south, changed := host(posix.State{Mode: 0o600}), host(posix.State{Mode: 0o600}), host(posix.State{})
	fmt.Println(north == south)
	_ = tree.Diff(context.Background(), m, north, changed, func(path string, _, _ *tree.Entry) error {
		fmt.Println(path)
		return nil
	})
	// Output:
	// true
	// /srv/ledger
}
