package baseline_test

import (
	"fmt"

	"idletally/internal/core/baseline"
	"idletally/internal/core/perm"
	"idletally/internal/core/perm/posix"
)

// A baseline is parsed, compiled for a host's accounts, and walked along the parts of a path.
func Example() {
	doc, err := baseline.Parse([]byte(`
idletally: 1
application: ticketing
hosts: {names: [slip-north]}
roots: [/srv/ticketing]
rules:
  - rule: everything
    paths: /srv/ticketing/**
    owner: purser
    files: 0640
`))
	if err != nil {
		panic(err)
	}

	accounts := (&perm.Directory{Accounts: []perm.Account{{ID: "u1000", Name: "purser"}}}).Index()
	m, problems := baseline.Compile(doc, accounts)
	at := m.Step(m.Root("/srv/ticketing"), "ledger")
	found := perm.Found{Kind: perm.File, Set: posix.State{UID: 1000, Mode: 0o666}.Set()}
	for _, d := range m.Desired(at, perm.File, found.Set).Differences(found, accounts) {
		fmt.Println(d.Aspect, d.Declared, d.Found)
	}
	fmt.Println(len(problems), "problems")
	// Output:
	// mode 0640 0666
	// 0 problems
}

func ExampleParse() {
	_, err := baseline.Parse([]byte("idletally: 1\napplication: a\nhosts: {names: [h]}\nroots: [/a]\nrules:\n" +
		"  - rule: r\n    paths: /a/**\n    folder: 0750\n"))
	fmt.Println(err)
	// Output: 8:5: a rule has no key "folder": did you mean "folders"?
}
