"""Measurements of degradations for certificates."""
