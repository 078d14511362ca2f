package derive

import (
	"slices"
	"strconv"
	"strings"

	"idletally/internal/core/baseline"
	"idletally/internal/core/perm"
)

// A label is a value of one key, by its number among the key's values.
type label int32

const (
	unsaid   label = iota // nothing is declared yet
	anything              // declared free
	firstOwn
)

// A leaf is what one path, or several alike, ask of one key: one of the labels. With none it has to be free.
type leaf struct {
	key    int
	labels []label
}

// A word is one value of a key.
type word struct {
	text   string
	loose  bool
	byHost []string // its value on each host, where hosts differ
}

// words are the values of all keys.
type words struct {
	hosts   []Seen
	under   int
	spell   []func(perm.Principal) string
	values  [][]word
	numbers []map[string]label
	known   map[state][]leaf
	keys    map[string]int // by name
}

type state struct {
	host int
	perm.Found
}

func newWords(hosts []Seen, under int) *words {
	w := &words{hosts: hosts, under: under, known: map[state][]leaf{}, keys: map[string]int{}}
	for i, key := range perm.TermKeys {
		w.keys[key] = i
		w.values = append(w.values, make([]word, firstOwn))
		w.numbers = append(w.numbers, map[string]label{})
	}
	for _, h := range hosts {
		w.spell = append(w.spell, speller(h.Directory))
	}
	return w
}

// speller names accounts so that the host finds them: by name, or by bare number.
func speller(d *perm.Directory) func(perm.Principal) string {
	return func(id perm.Principal) string {
		find := d.User
		if d.IsGroup(id) {
			find = d.Group
		}

		if a := d.Account(id); a != nil && d.GroupsOwn() { // there a name is looked for among both
			if other, ok := d.User(a.Name); ok && other != id {
				return string(id)
			}
		}

		if a := d.Account(id); a != nil && baseline.Nameable(a.Name) {
			if back, ok := find(a.Name); ok && back == id {
				return a.Name
			}
		}

		number := d.Identify(id).Text
		if back, ok := d.Find(number, d.IsGroup(id)); !ok || back != id {
			return ""
		}

		return number
	}
}

func (w *words) label(key int, v word) label {
	l, ok := w.numbers[key][v.text]
	if !ok {
		l = label(len(w.values[key]))
		w.numbers[key][v.text], w.values[key] = l, append(w.values[key], v)
	}
	return l
}

const maxKnown = 1 << 20

// says returns what the state of a path on a host requires. The result must not be changed.
func (w *words) says(s state) []leaf {
	out, ok := w.known[s]
	if ok {
		return out
	}

	for _, x := range perm.Terms(s.Found, w.hosts[s.host].Directory, w.spell[s.host]) {
		y := leaf{key: w.keys[x.Key]}
		for _, text := range x.Values {
			y.labels = append(y.labels, w.label(y.key, word{text: text}))
		}

		for _, text := range x.Loose {
			y.labels = append(y.labels, w.label(y.key, word{text: text, loose: true}))
		}

		out = append(out, y)
	}

	slices.SortFunc(out, func(a, b leaf) int { return a.key - b.key })
	if len(w.known) < maxKnown {
		w.known[s] = out
	}

	return out
}

// varies are the keys whose values can be variables, other from host to host.
var varies = []string{"owner", "group", "files", "folders"}

// asks returns what one path requires on all the hosts that have it. The result must not be changed.
func (w *words) asks(states []state) []leaf {
	if len(states) == 1 {
		return w.says(states[0])
	}

	byKey := map[int][]leaf{}
	on := map[int][]int{} // hosts
	var keys []int

	for _, st := range states {
		for _, s := range w.says(st) {
			if byKey[s.key] == nil {
				keys = append(keys, s.key)
			}
			byKey[s.key], on[s.key] = append(byKey[s.key], s), append(on[s.key], st.host)
		}
	}

	slices.Sort(keys)
	var out []leaf
	for _, key := range keys {
		all := byKey[key]
		common := slices.Clone(all[0].labels)
		for _, s := range all[1:] {
			common = both(common, s.labels)
		}

		if len(common) == 0 {
			common = w.varying(key, all, on[key])
		}

		out = append(out, leaf{key, common})
	}

	return out
}

// varying returns the label of values that differ from host to host; hosts that do not have the path
// get the first one.
func (w *words) varying(key int, all []leaf, hosts []int) []label {
	if !slices.Contains(varies, perm.TermKeys[key]) ||
		slices.ContainsFunc(all, func(s leaf) bool { return len(s.labels) == 0 }) {
		return nil
	}
	v := word{byHost: make([]string, len(w.hosts))}
	for i := range v.byHost {
		v.byHost[i] = w.values[key][all[0].labels[0]].text
	}
	for i, s := range all {
		v.byHost[hosts[i]] = w.values[key][s.labels[0]].text
	}
	v.text = strings.Join(v.byHost, "\x00")
	return []label{w.label(key, v)}
}

// both returns what stands in both lists, in the order of the first.
func both(a, b []label) []label {
	return slices.DeleteFunc(slices.Clone(a), func(l label) bool { return !slices.Contains(b, l) })
}

// variable names the values that differ from host to host.
func (w *words) variable(key int, l label) string {
	n := 0
	for i := range w.values[key][:l] {
		if w.values[key][i].byHost != nil {
			n++
		}
	}
	return perm.TermKeys[key] + "-" + strconv.Itoa(n+1)
}
