package wire

import (
	"encoding/json"
	"sync"
	"testing"
	"time"

	"idletally/internal/core/tree"
)

// No list of an answer is null in JSON, however deep it lies, and nothing else is another one.
func TestLists(t *testing.T) {
	type Inner struct {
		List []string  `json:"list"`
		Left []string  `json:"left,omitempty"`
		Hash tree.Hash `json:"hash"`
		At   time.Time `json:"at"`
	}

	type outer struct {
		Inner
		Self  *Inner           `json:"self"`
		None  *Inner           `json:"none"`
		Many  []Inner          `json:"many"`
		Named map[string]Inner `json:"named"`
		Any   any              `json:"any"`
		Bytes []byte           `json:"bytes"`
		own   []string
	}

	const zero = `"hash":"0000000000000000000000000000000000000000000000000000000000000000","at":"0001-01-01T00:00:00Z"`
	const empty = `{"list":[],` + zero + `}`
	for _, c := range []struct {
		v    any
		want string
	}{
		{nil, `null`},
		{[]string(nil), `[]`},
		{map[string]any{"a": []int(nil), "b": nil}, `{"a":[],"b":null}`},
		{outer{Self: &Inner{}, Many: []Inner{{}}, Named: map[string]Inner{"x": {}}, Any: Inner{}, own: nil},
			`{"list":[],` + zero + `,"self":` + empty + `,"none":null,"many":[` + empty + `],"named":{"x":` +
				empty + `},"any":` + empty + `,"bytes":null}`},
		{Listing{}.Items, `[]`},
	} {
		t.Run(c.want, func(t *testing.T) {
			if got, err := json.Marshal(WithLists(c.v)); err != nil || string(got) != c.want {
				t.Errorf("%+v: %s, %v; want %s", c.v, got, err, c.want)
			}
		})
	}
}

// What lacks no list is not copied, and whoever asks at once for a type that nobody asked for before is answered alike.
func TestListsAreShared(t *testing.T) {
	whole := Listing{Items: []Path{{Path: "/a"}, {Path: "/b"}}}
	if got := WithLists(whole).(Listing); &got.Items[0] != &whole.Items[0] {
		t.Error("what lacks no list is copied")
	}

	type node struct {
		List  []string `json:"list"`
		Below []*node  `json:"below"`
	}
	shapes.Clear()
	var all sync.WaitGroup

	for range 50 {
		all.Go(func() {
			b, err := json.Marshal(WithLists(node{Below: []*node{{List: []string{"x"}}}}))
			if want := `{"list":[],"below":[{"list":["x"],"below":[]}]}`; err != nil || string(b) != want {
				t.Errorf("%s, %v", b, err)
			}
		})
	}

	all.Wait()
}
