"""Chain notation: text to steps, and steps to what can be run."""
