// So that a function without a body is allowed: see open.go.
