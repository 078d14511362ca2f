package wire

import "testing"

func TestWho(t *testing.T) {
	for _, c := range []struct {
		act  Act
		want string
	}{
		{Act{}, "a process that was gone"},
		{Act{Command: "chmod", Account: "clerk-east"}, "clerk-east, chmod"},
		{Act{Command: "chmod", Account: "root", Login: "clerk-east"}, "root (logged in as clerk-east), chmod"},
	} {
		if got := c.act.Who(); got != c.want {
			t.Errorf("%+v: %q, want %q", c.act, got, c.want)
		}
	}
}
