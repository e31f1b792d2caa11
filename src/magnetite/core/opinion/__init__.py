"""Blind tests: designs, and figures from the answers."""
