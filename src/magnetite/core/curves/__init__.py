"""Rate-distortion curves: their points, and what they say of each other."""
