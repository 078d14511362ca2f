package wire

// Mode is one mode in every way of writing it.
type Mode struct {
	Octal      string   `json:"octal" example:"2750"`
	Letters    string   `json:"letters" example:"rwxr-s---"`
	Symbolic   string   `json:"symbolic" example:"u=rwx,g=rxs,o="`
	Arithmetic []string `json:"arithmetic"`
	File       []string `json:"file" doc:"What it means on a file"`
	Folder     []string `json:"folder" doc:"What it means on a folder"`
	Kept       bool     `json:"kept,omitempty" doc:"Limits were given, and it keeps them"`
	Broken     []string `json:"broken,omitempty" doc:"What of the limits it does not keep"`
	Mended     string   `json:"mended,omitempty" doc:"The nearest mode that keeps the limits"`
}

// Fresh is what an account's new files and folders get in a folder.
type Fresh struct {
	Origin  Origin  `json:"origin"`
	Path    string  `json:"path"`
	Account Account `json:"account"`
	Umask   string  `json:"umask"`
	Refused string  `json:"refused,omitempty" doc:"Why the account cannot make anything there at all"`
	Made    []New   `json:"made"`
}

// New is what a path gets that is made in a folder.
type New struct {
	Kind    string   `json:"kind"`
	Mode    string   `json:"mode"`
	Letters string   `json:"letters"`
	Owner   string   `json:"owner,omitempty"`
	Entries []string `json:"entries,omitempty"`
	Group   string   `json:"group"`
	Notes   []string `json:"notes"`
}
