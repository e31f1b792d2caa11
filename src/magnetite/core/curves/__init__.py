"""Rate-distortion curves: their points, and their comparison."""
