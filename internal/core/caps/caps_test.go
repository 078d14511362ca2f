package caps

import (
	"fmt"
	"testing"
)

func ExampleText() {
	raw, err := Parse("cap_net_bind_service=ep")
	if err != nil {
		panic(err)
	}
	fmt.Println(Text(raw))
	fmt.Println(Text(""))
	// Output:
	// cap_net_bind_service=ep
	// none
}

// Every capability is written as it is read, and what the text cannot say stays hexadecimal.
func TestText(t *testing.T) {
	for _, name := range capNames {
		for _, how := range []string{"=ep", "=p"} {
			t.Run(how, func(t *testing.T) {
				raw, err := Parse("cap_" + name + how)
				if err != nil || Text(raw) != "cap_"+name+how {
					t.Errorf("%s%s is written as %s, %v", name, how, Text(raw), err)
				}
			})
		}
	}
	for raw, want := range map[string]string{"\x01\x02": "0102", "caps": "63617073"} {
		t.Run(raw, func(t *testing.T) {
			if got := Text(raw); got != want {
				t.Errorf("%x is written as %s", raw, got)
			}
		})
	}
	for _, bad := range []string{"", "cap_chown", "cap_sail=ep", "cap_chown=e", "=ep"} {
		t.Run(bad, func(t *testing.T) {
			if _, err := Parse(bad); err == nil {
				t.Errorf("%q was taken", bad)
			}
		})
	}
}

func FuzzParse(f *testing.F) {
	f.Add("cap_chown,cap_kill=ep")
	f.Add("none")
	f.Fuzz(func(t *testing.T, s string) {
		raw, err := Parse(s)
		if err != nil {
			return
		}
		if again, err := Parse(Text(raw)); err != nil || again != raw {
			t.Errorf("%q is %x, which is written as %q", s, raw, Text(raw))
		}
	})
}
