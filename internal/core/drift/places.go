package drift

import (
	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
)

// A Place is a folder that has findings, or below which some are. A finding of a folder itself
// counts in it.
type Place struct {
	Path  string
	Tally       // with all below
	Here  Tally // directly in it
	First int   // of its findings in the order of the walk, counted from 1: they stand in one row
	Last  int
}

// A Tally counts findings. Those that are waived count nowhere else.
type Tally struct{ Findings, Opens, Closes, Waived int }

func (t *Tally) add(o Tally) {
	t.Findings += o.Findings
	t.Opens += o.Opens
	t.Closes += o.Closes
	t.Waived += o.Waived
}

func tallyOf(f *Finding) Tally {
	if f.Waiver != "" {
		return Tally{Waived: 1}
	}
	t := Tally{Findings: 1}
	if len(f.Effect.Opens) > 0 {
		t.Opens = 1
	}
	if len(f.Effect.Closes) > 0 {
		t.Closes = 1
	}
	return t
}

// Places counts findings folder by folder as they arrive in the order of a walk, and hands out each folder once it is
// complete. It holds no more than the folders on one way.
type Places struct {
	Each    func(Place) error
	way     []Place
	n       int
	missing map[string]*Place // these come last, and in no order with the rest
}

// Add counts a finding.
func (p *Places) Add(f Finding) error {
	at := f.Path
	if f.Kind != perm.Folder {
		at = pathname.Folder(f.Path)
	}

	one := tallyOf(&f)
	p.n++
	if f.Aspect == perm.AspectPresence && f.FoundSet.IsZero() {
		p.miss(pathname.Folder(f.Path), one)
		return nil
	}

	if err := p.leave(at); err != nil {
		return err
	}

	for top := len(p.way); top == 0 || p.way[top-1].Path != at; top = len(p.way) {
		from := "/"
		if top > 0 {
			from = step(p.way[top-1].Path, at)
		}
		p.way = append(p.way, Place{Path: from, First: p.n})
	}

	for i := range p.way {
		p.way[i].add(one)
		p.way[i].Last = p.n
	}

	p.way[len(p.way)-1].Here.add(one)
	return nil
}

// step returns the folder one part further on the way from one to another.
func step(from, to string) string {
	i := len(from)
	if from != "/" {
		i++
	}
	for i < len(to) && to[i] != '/' || i == len(from) {
		i++
	}
	return to[:i]
}

// leave hands out the folders that a path does not lie in.
func (p *Places) leave(path string) error {
	for len(p.way) > 0 {
		last := p.way[len(p.way)-1]
		if path != "" && pathname.Under(path, last.Path) {
			return nil
		}
		p.way = p.way[:len(p.way)-1]
		if err := p.Each(last); err != nil {
			return err
		}
	}
	return nil
}

func (p *Places) miss(folder string, one Tally) {
	if p.missing == nil {
		p.missing = map[string]*Place{}
	}

	for at := folder; ; at = pathname.Folder(at) {
		x := p.missing[at]
		if x == nil {
			x = &Place{Path: at}
			p.missing[at] = x
		}

		x.add(one)
		if at == folder {
			x.Here.add(one)
		}

		if at == "/" {
			return
		}
	}
}

// End hands out what is left. A folder in which something is missing comes a second time, with
// that alone.
func (p *Places) End() error {
	if err := p.leave(""); err != nil {
		return err
	}
	for _, x := range p.missing {
		if err := p.Each(*x); err != nil {
			return err
		}
	}
	return nil
}
