"""Loops and tables of the degradations."""
