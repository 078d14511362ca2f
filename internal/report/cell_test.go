package report

import "testing"

// What stands in a table steers neither a terminal nor a spreadsheet.
func TestCell(t *testing.T) {
	for in, want := range map[string]string{
		"":                       "",
		"plain":                  "plain",
		"=1+1":                   "'=1+1",
		"+1":                     "'+1",
		"-2+3+cmd|' /C calc'!A0": "'-2+3+cmd|' /C calc'!A0",
		"@x":                     "'@x",
		"\t=1+1":                 "'\t=1+1",
		"\r=1":                   "�=1",
		"a\x1b[31mb":             "a�[31mb",
		"a\x00b":                 "a�b",
		"a\u009bb":               "a�b",
		"two\nlines":             "two\nlines",
		"größe":                  "größe",
	} {
		t.Run(in, func(t *testing.T) {
			if got := Cell(in); got != want {
				t.Errorf("%q is written as %q, want %q", in, got, want)
			}
		})
	}
}
