package access

import (
	"time"

	"idletally/internal/core/pathname"
	"idletally/internal/core/perm"
)

// Seen is a path with what is shown of it besides its permissions.
type Seen struct {
	Place
	Gap      string        `json:"gap,omitempty"` // why its content, or it itself, could not be read
	Size     int64         `json:"size,omitempty"`
	Modified time.Time     `json:"modified,omitzero"`
	Links    uint64        `json:"links,omitempty"`
	Target   pathname.Path `json:"target,omitempty"`
}

// Found is what looking at a path yields, on a live host or in a snapshot.
type Found struct {
	Way       Way             `json:"way"`
	Seen      Seen            `json:"seen"`
	Entries   []Seen          `json:"entries,omitempty"` // a folder's, where they were asked for
	Next      pathname.Path   `json:"next,omitempty"`    // name after which more follow
	Directory *perm.Directory `json:"-"`
}

// A Try is the system's own answer to one operation, found by trying.
type Try struct {
	Operation Operation `json:"operation"`
	Allowed   bool      `json:"allowed"`
	Call      string    `json:"call" doc:"The system call that was tried, and what it answered"`
	Untried   string    `json:"untried,omitempty" doc:"Why it was not tried"`
}
