"""Search for the value of one setting."""
