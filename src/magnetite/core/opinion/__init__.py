"""Blind tests: designs, and the figures of what people answered."""
