package drift

import (
	"sync"

	"idletally/internal/core/perm"
	"idletally/internal/core/tree"
)

// A Memo remembers how folders were judged: the same folder at the same place of the same baseline needs no second
// look, at any time and on any host. It is safe for concurrent use.
type Memo struct {
	mu         sync.Mutex
	max        int
	weight     int              // of the young
	young, old map[spot]*judged // what is not asked for while the young grow up is forgotten
}

// spot is a folder, and where it stands in a baseline with its accounts resolved. Findings tell
// names, so that a folder with findings is the same only where the names are, too.
type spot struct {
	node        tree.Hash
	above       perm.Set // its own state where what is in it is held against that
	fingerprint [32]byte
	state       string
}

// judged is what a folder, and all below it, was found to be.
type judged struct {
	sum   Summary
	items []item // none where everything is as declared
}

// An item is an entry of a folder with something to report, of itself or of what is below it.
type item struct {
	name string
	perm.Found
	diffs []perm.Difference
	gap   tree.Gap  // whose content, or part of it, could not be read
	node  tree.Hash // of a subfolder that is not as declared throughout
	state string
	below bool
}

// NewMemo makes a memo that holds at most so many folders and findings.
func NewMemo(most int) *Memo { return &Memo{max: max(most/2, 1), young: map[spot]*judged{}} }

func (m *Memo) get(k spot) *judged {
	if m == nil {
		return nil
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	j := m.young[k]
	if j == nil {
		j = m.old[k]
		if j != nil {
			m.keep(k, j)
		}
	}
	return j
}

func (m *Memo) put(k spot, j *judged) {
	if m == nil {
		return
	}
	m.mu.Lock()
	defer m.mu.Unlock()
	m.keep(k, j)
}

func (m *Memo) keep(k spot, j *judged) {
	w := 1 + len(j.items)
	if w > m.max {
		return // one folder is not to push out all others
	}
	if m.weight+w > m.max {
		m.young, m.old, m.weight = map[spot]*judged{}, m.young, 0
	}
	if m.young[k] == nil {
		m.weight += w
	}
	m.young[k] = j
}
