"""Experiments: a plan, carried out over all pictures, settings and seeds, and its results."""
