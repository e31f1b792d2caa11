"""The demonstration: the whole job on the scenes, or on pictures of the user's own."""
