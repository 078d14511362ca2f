package cli

import (
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"
)

// The reference of commands and settings is made of the program, which these tests hold to be so. To write it anew:
// IDLETALLY_WRITE_DOCS=1 go test ./internal/cli -run TestReference

// kept compares a document with what the program says, or writes it.
func kept(t *testing.T, name, want string) {
	t.Helper()
	file := filepath.Join("../../docs", name)
	if os.Getenv("IDLETALLY_WRITE_DOCS") != "" {
		if err := os.MkdirAll(filepath.Dir(file), 0o755); err != nil {
			t.Fatal(err)
		}
		if err := os.WriteFile(file, []byte(want), 0o644); err != nil {
			t.Fatal(err)
		}
	}

	if got, err := os.ReadFile(file); err != nil || string(got) != want {
		t.Errorf(
			"docs/%s is not what the program says, %v: write it by IDLETALLY_WRITE_DOCS=1 go test ./internal/cli "+
				"-run TestReference",
			name, err)
	}
}

// described writes a command for the reference.
func described(b *strings.Builder, c *cobra.Command, depth string) {
	fmt.Fprintf(b, "%s %s\n\n", depth, c.CommandPath())
	if !strings.HasPrefix(c.Long, strings.TrimSuffix(c.Short, ".")) {
		fmt.Fprintf(b, "%s.\n\n", strings.TrimSuffix(c.Short, "."))
	}

	if c.Long != "" {
		fmt.Fprintf(b, "%s\n\n", strings.TrimSpace(c.Long))
	}

	if c.Runnable() && !c.HasSubCommands() || c.Name() == "history" {
		fmt.Fprintf(b, "    %s\n\n", c.UseLine())
	}

	if c.Example != "" {
		fmt.Fprintf(b, "Such as\n\n")
		for line := range strings.Lines(c.Example) {
			fmt.Fprintf(b, "    %s\n", strings.TrimSpace(line))
		}
		b.WriteString("\n")
	}

	flags := pflag.NewFlagSet("", pflag.ContinueOnError)
	c.NonInheritedFlags().VisitAll(func(f *pflag.Flag) {
		if f.Name != "help" && f.Name != "version" {
			flags.AddFlag(f)
		}
	})
	if usage := flags.FlagUsages(); usage != "" {
		for line := range strings.Lines(usage) {
			fmt.Fprintf(b, "    %s\n", strings.TrimSpace(line))
		}
		b.WriteString("\n")
	}

	for _, sub := range c.Commands() {
		if sub.Name() != "help" {
			described(b, sub, "##")
		}
	}
}

// docs/commands has a page for each noun, and a list of them in the order of work.
func TestReferenceOfCommands(t *testing.T) {
	root := Root()
	var list strings.Builder
	list.WriteString(
		"# Commands\n\nMade of the program's own help. What all commands have stands in [the " +
			"guide](../guide/README.md#what-all-commands-have).\n")

	for _, g := range inGroups {
		fmt.Fprintf(&list, "\n%s\n\n", g.title)
		for _, noun := range g.nouns {
			c, _, err := root.Find([]string{noun})
			if err != nil {
				t.Fatal(err)
			}

			fmt.Fprintf(&list, "- [`%s`](%s.md): %s\n", noun, noun, c.Short)
			var b strings.Builder
			described(&b, c, "#")
			kept(t, "commands/"+noun+".md", strings.TrimRight(b.String(), "\n")+"\n")
		}
	}

	kept(t, "commands/README.md", list.String())
	entries, err := os.ReadDir("../../docs/commands")
	n := 1
	for _, g := range inGroups {
		n += len(g.nouns)
	}

	if err != nil || len(entries) != n {
		t.Errorf("docs/commands has %d pages, and there are %d nouns and a list, %v", len(entries), n-1, err)
	}
}

// docs/settings.md has a line for each setting of the service, and docs/guide names none that is not there.
func TestReferenceOfSettings(t *testing.T) {
	serve, _, err := Root().Find([]string{"serve"})
	if err != nil {
		t.Fatal(err)
	}

	var b strings.Builder
	b.WriteString("# Settings of the service\n\nEach is given to `idletally serve` as a flag, by the environment, " +
		"or in the file that `--settings` names, where it has the flag's name; a flag counts before\n" +
		"the environment, and that before the file. `idletally serve --check` says what counts, and from " +
		"where.\n\n| setting | environment | by default | |\n| --- | --- | --- | --- |\n")
	for _, name := range settableFlags(serve) {
		f := serve.Flags().Lookup(name)
		usual := f.DefValue
		if usual == "[]" {
			usual = ""
		}

		if usual != "" {
			usual = "`" + usual + "`"
		}

		fmt.Fprintf(&b, "| `%s` | `%s` | %s | %s |\n", name, variable(name), usual,
			strings.ReplaceAll(f.Usage, "|", "\\|"))
	}

	kept(t, "settings.md", b.String())
}
