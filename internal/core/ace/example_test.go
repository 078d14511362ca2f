package ace_test

import (
	"fmt"

	"idletally/internal/core/ace"
)

// On a folder the single rights have other names.
func ExampleMask_Words() {
	m, err := ace.ParseMask("read, execute")
	if err != nil {
		panic(err)
	}
	fmt.Println(m.Words(false))
	fmt.Println(m.Words(true))
	// Output:
	// read, execute
	// read, traverse
}

func ExampleFlags_Reaches() {
	f, err := ace.ParseReach("files, here")
	if err != nil {
		panic(err)
	}
	fmt.Println(f.Reaches())
	// Output: here, files
}
