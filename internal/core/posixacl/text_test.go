package posixacl

import (
	"errors"
	"reflect"
	"strings"
	"testing"

	"idletally/internal/core/mode"
)

func who(tag Tag, name string) (uint32, bool) {
	id, ok := map[string]uint32{"purser": 7, "crew": 9}[name]
	return id, ok && (tag == User) == (name == "purser")
}

func nameOf(_ Tag, id uint32) string { return map[uint32]string{7: "purser", 9: "crew"}[id] }

func TestText(t *testing.T) {
	full := List{
		{UserObj, NoID, 7},
		{User, 7, 7},
		{User, 12, 4},
		{GroupObj, NoID, 5},
		{Group, 9, 6},
		{Mask, NoID, 5},
		{Other, NoID, 0},
	}

	const short = "u::rwx,u:purser:rwx,u:12:r--,g::r-x,g:crew:rw-,m::r-x,o::---"
	const long = "user::rwx\nuser:purser:rwx\t#effective:r-x\nuser:12:r--\n" +
		"group::r-x\ngroup:crew:rw-\t#effective:r--\nmask::r-x\nother::---\n"
	if got := full.Short(nameOf); got != short {
		t.Errorf("short %s, want %s", got, short)
	}

	if got := full.Long(nameOf); got != long {
		t.Errorf("long %q, want %q", got, long)
	}

	for _, s := range []string{
		short, long, full.Text(nameOf), strings.ReplaceAll(long, "\n", "\r\n"),
		"# remark\n\n " + strings.ReplaceAll(short, ",", " , "),
		"o::0,m::5,g:crew:6,g::5,u:12:4,u:7:7,u::7",
		"user::xwr,user:purser:rwx,user:12:r,group::rx,group:crew:wr,mask::rx,other::-",
	} {
		t.Run(s, func(t *testing.T) {
			got, defaults, err := ParseText(s, who)
			if err != nil || defaults != nil || !reflect.DeepEqual(got, full) {
				t.Errorf("%q: %v, %v, %v", s, got, defaults, err)
			}
		})
	}

	access, defaults, err := ParseText("u::rw-,g::r--,o::---,default:u::rwx,d:g::r-x,d:o::---", who)
	if err != nil || access.Text(nil) != "user::rw-,group::r--,other::---" ||
		defaults.Text(nil) != "user::rwx,group::r-x,other::---" {
		t.Errorf("%v, %v, %v", access, defaults, err)
	}
}

// An error says which character, and what was expected there.
func TestTextErrors(t *testing.T) {
	for s, want := range map[string]string{
		"":                     "is empty",
		"user":                 "ends after 4 characters where a colon after one of user, group, mask",
		"owner::rwx":           "character 1 is 'o', want one of user, group, mask, other, default",
		"u::rwx,g::r-x,o::--q": "character 20 is 'q', want a comma or a line end",
		"u::rwx,g::8,o::-": "character 11 is '8', want permissions: letters out of r, w, x and -, or " +
			"one octal digit",
		"u::rrx,g::-,o::-":            "character 5 is 'r', want each of r, w and x once",
		"mask:purser:rwx":             "character 6 is 'p', want a second colon: mask names nobody",
		"u:purser rwx":                "ends after 12 characters where a colon after the name",
		"u:nemo:rwx,g::-,o::-":        `names the account "nemo", which is not known here`,
		"g:nobody:rwx,u::-,g::-,o::-": `names the group "nobody", which is not known here`,
		"u:4294967295:rwx":            "which is not known here",
		"u::rwx,g::r-x":               "0 entries for the other (other::)",
		"u::rwx,g::r-x,o::-,u:7:r":    "no mask entry",
		"u::rwx,g::r-x,o::-,":         "want another entry",
		"d:u::rwx":                    "default access list has 0 entries for the owning group",
	} {
		t.Run(s, func(t *testing.T) {
			_, _, err := ParseText(s, who)
			if err == nil || !strings.Contains(err.Error(), strings.TrimPrefix(want, "want another")) {
				t.Errorf("%q: %v; want %q in it", s, err, want)
			}
		})
	}

	var at *TextError
	if _, _, err := ParseText("u::rw?", who); !errors.As(err, &at) || at.At != 5 {
		t.Errorf("%+v", at)
	}

	if _, _, err := ParseText(strings.Repeat(" ", maxText+1), who); err == nil {
		t.Error("a text without bound was taken")
	}
}

func FuzzParseText(f *testing.F) {
	f.Add("u::rwx,u:7:rw,g::r-x,m::7,o::---")
	f.Add("default:user::rwx\ndefault:group::r-x #effective:r--\ndefault:other::0\n")
	f.Fuzz(func(t *testing.T, s string) {
		access, defaults, err := ParseText(s, nil)
		if err != nil {
			return
		}

		for _, l := range []List{access, defaults} {
			if l == nil {
				continue
			}

			for _, text := range []string{l.Text(nil), l.Short(nil), l.Long(nil)} {
				t.Run(text, func(t *testing.T) {
					back, _, err := ParseText(text, nil)
					if err != nil || !reflect.DeepEqual(back, l) {
						t.Fatalf("%q is %v; %q came back as %v, %v", s, l, text, back, err)
					}
				})
			}

			bin, err := DecodeXattr(l.AppendXattr(nil))
			if err != nil || !reflect.DeepEqual(bin, l) {
				t.Fatalf("%v came back from the kernel's form as %v, %v", l, bin, err)
			}
		}
	})
}

func TestEffective(t *testing.T) {
	l := Build(7, 5, 1, List{{User, 7, 7}, {Group, 9, 2}}, perm(4))
	for i, want := range []mode.Perm{7, 4, 4, 0, 4, 1} {
		if got := l.Effective(l[i]); got != want {
			t.Errorf("%s counts as %v, want %v", l[i].Text(nil), got, want)
		}
	}
}
