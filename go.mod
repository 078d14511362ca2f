module idletally

go 1.26.0

require (
	github.com/goccy/go-yaml v1.19.2 // indirect
	golang.org/x/sys v0.49.0 // indirect
)
