package agent

// private has nothing to say: folders there have no modes, and the agent has not been run there.
func private(string) error { return nil }
