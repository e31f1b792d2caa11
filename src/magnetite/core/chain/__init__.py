"""Chain notation: text to steps, and steps to callables."""
