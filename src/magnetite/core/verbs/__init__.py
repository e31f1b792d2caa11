"""What the commands do: each a function on pictures with a typed result."""
