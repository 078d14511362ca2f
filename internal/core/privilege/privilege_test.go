package privilege

import "testing"

// What is written of privileges is read again, and what is no privilege is refused.
func TestText(t *testing.T) {
	for p := range Set(1 << len(privilegeNames)) {
		text, err := p.MarshalText()
		if err != nil {
			t.Fatal(err)
		}
		var again Set
		if err := again.UnmarshalText(text); err != nil || again != p {
			t.Errorf("%q is read as %d (%v), want %d", text, again, err, p)
		}
	}

	var p Set
	if err := p.UnmarshalText([]byte("SeBackupPrivilege, SeTideTablePrivilege")); err == nil {
		t.Error("a privilege that nobody knows was taken")
	}
}
