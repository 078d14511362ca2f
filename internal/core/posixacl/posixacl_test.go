package posixacl

import (
	"bytes"
	"reflect"
	"strings"
	"testing"

	"idletally/internal/core/mode"
)

func perm(p mode.Perm) *mode.Perm { return &p }

func TestBuild(t *testing.T) {
	named := List{{User, 7, 6}, {Group, 9, 5}}
	for _, c := range []struct {
		name  string
		named List
		mask  *mode.Perm
		want  string
	}{
		{"no list", nil, nil, ""},
		{"mask is the union", named, nil, "user::rw-,user:7:rw-,group::r--,group:9:r-x,mask::rwx,other::---"},
		{"mask given", named, perm(4), "user::rw-,user:7:rw-,group::r--,group:9:r-x,mask::r--,other::---"},
		{"a mask alone", nil, perm(0), "user::rw-,group::r--,mask::---,other::---"},
	} {
		t.Run(c.name, func(t *testing.T) {
			l := Build(6, 4, 0, c.named, c.mask)
			if got := l.Text(nil); got != c.want {
				t.Errorf("%s: %s, want %s", c.name, got, c.want)
			}
			if l != nil {
				if err := l.Validate(); err != nil {
					t.Errorf("%s: %v", c.name, err)
				}
				back, err := DecodeXattr(l.AppendXattr(nil))
				if err != nil || !reflect.DeepEqual(back, l) {
					t.Errorf("%s: came back as %v, %v", c.name, back, err)
				}
			}
		})
	}
}

func TestValidate(t *testing.T) {
	for _, c := range []struct {
		name string
		l    List
		want string
	}{
		{"no other", List{{UserObj, NoID, 6}, {GroupObj, NoID, 4}}, "other (other::)"},
		{"named without mask", List{{UserObj, NoID, 6}, {User, 3, 4}, {GroupObj, NoID, 4}, {Other, NoID, 0}},
			"no mask"},
		{"named twice",
			List{
				{UserObj, NoID, 6},
				{User, 3, 4},
				{User, 3, 5},
				{GroupObj, NoID, 4},
				{Mask, NoID, 4},
				{Other, NoID, 0},
			},
			"twice"},
		{"nobody named", List{{User, NoID, 6}}, "names nobody"},
		{"id where none belongs", List{{UserObj, 5, 6}}, "none belongs"},
		{"unknown tag", List{{Tag(3), NoID, 6}}, "unknown tag"},
		{"permission too large", List{{UserObj, NoID, 9}}, "want 0 to 7"},
	} {
		t.Run(c.name, func(t *testing.T) {
			if err := c.l.Validate(); err == nil || !strings.Contains(err.Error(), c.want) {
				t.Errorf("%s: %v, want %q in it", c.name, err, c.want)
			}
		})
	}
}

func TestAccess(t *testing.T) {
	l := Build(6, 4, 0, List{{User, 7, 7}, {User, 8, 0}, {Group, 9, 2}}, perm(6))
	m := mode.Mode(0o660)
	for _, c := range []struct {
		name string
		s    Subject
		want mode.Perm
	}{
		{"owner", Subject{1, []uint32{9}}, 6},
		{"named, limited by the mask", Subject{7, nil}, 6},
		{"named with nothing does not fall to the group", Subject{8, []uint32{2}}, 0},
		{"owning group", Subject{5, []uint32{2}}, 4},
		{"two groups together", Subject{5, []uint32{2, 9}}, 6},
		{"other", Subject{5, nil}, 0},
	} {
		t.Run(c.name, func(t *testing.T) {
			if got := Access(1, 2, m, l, c.s); got != c.want {
				t.Errorf("%s: %v, want %v", c.name, got, c.want)
			}
		})
	}

	if got := Access(1, 2, 0o604, nil, Subject{5, []uint32{2}}); got != 0 {
		t.Errorf("a group member gets %v of 0604, want nothing: others are others", got)
	}
}

func FuzzDecodeXattr(f *testing.F) {
	f.Add(Build(6, 4, 0, List{{User, 7, 6}}, nil).AppendXattr(nil))
	f.Add([]byte{2, 0, 0, 0})
	f.Fuzz(func(t *testing.T, b []byte) {
		l, err := DecodeXattr(b)
		if err != nil || l == nil {
			return
		}
		enc := l.AppendXattr(nil)
		again, err := DecodeXattr(enc)
		if err != nil || !bytes.Equal(again.AppendXattr(nil), enc) {
			t.Fatalf("%x decoded to %v, which does not come back: %v", b, l, err)
		}
	})
}
