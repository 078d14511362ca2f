package cli

import (
	"bytes"
	"context"
	"io"
	"os"
	"os/exec"
	"slices"
	"strings"

	"github.com/spf13/cobra"
	"golang.org/x/term"
)

// A pager passes what is longer than the terminal to a program that shows it page by page: what PAGER says, or less.
// Anything shorter is written as it is.
type pager struct {
	to    *os.File
	lines int // that the terminal has

	held   bytes.Buffer
	cmd    *exec.Cmd
	in     io.WriteCloser
	direct bool // there is no pager: it is written as it comes
	gone   bool // whoever reads has seen enough
	enough func()
}

// long are the commands whose answers may be long, and that follow nothing.
var long = []string{
	"list", "show", "findings", "trend", "causes", "steps", "originals", "results", "changes", "holders", "below",
	"matrix", "decide", "effect", "explain",
	"history", "overview", "search", "doctor", "sessions", "compare", "kept", "file",
}

// page pages the command's answer if it is for a person at a terminal; finish ends that.
func (o *options) page(c *cobra.Command) (finish func() (gone bool)) {
	f, ok := c.OutOrStdout().(*os.File)
	if !ok || o.noPager || o.output != "table" || !slices.Contains(long, c.Name()) || !term.IsTerminal(int(f.Fd())) {
		return nil
	}
	_, lines, err := term.GetSize(int(f.Fd()))
	if err != nil || lines < 2 {
		return nil
	}
	ctx, enough := context.WithCancel(c.Context())
	c.SetContext(ctx)
	p := &pager{to: f, lines: lines - 1, enough: enough}
	c.Root().SetOut(p)
	return p.finish
}

// Write makes a pager an io.Writer.
func (p *pager) Write(b []byte) (int, error) {
	switch {
	case p.direct:
		return p.to.Write(b)
	case p.cmd != nil:
		if _, err := p.in.Write(b); err != nil && !p.gone {
			p.gone = true
			p.enough() // nothing more is asked for
		}
		return len(b), nil
	}
	p.held.Write(b)
	if bytes.Count(p.held.Bytes(), []byte("\n")) > p.lines {
		p.begin()
	}
	return len(b), nil
}

// begin starts the program; without one, what was held back is written.
func (p *pager) begin() {
	program := os.Getenv("PAGER")
	if program == "" {
		program = "less"
	}

	words := strings.Fields(program)
	if len(words) > 0 && words[0] != "cat" {
		cmd := exec.Command(words[0], words[1:]...)
		cmd.Stdout, cmd.Stderr = p.to, os.Stderr
		if os.Getenv("LESS") == "" {
			cmd.Env = append(os.Environ(), "LESS=FSX") // it ends by itself where it all fits, and cuts no line in two
		}

		in, err := cmd.StdinPipe()
		if err == nil {
			err = cmd.Start()
		}

		if err == nil {
			p.cmd, p.in = cmd, in
			_, _ = in.Write(p.held.Bytes())
			p.held.Reset()
			return
		}
	}

	p.direct = true
	_, _ = p.to.Write(p.held.Bytes())
	p.held.Reset()
}

// finish shows what is still held back, and waits until it was read. It reports whether the reader left before the
// end.
func (p *pager) finish() (gone bool) {
	defer p.enough()
	if p.cmd == nil {
		_, _ = p.to.Write(p.held.Bytes())
		return false
	}
	p.in.Close()
	_ = p.cmd.Wait() // however it ended, it was shown
	return p.gone
}
