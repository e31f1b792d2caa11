"""Slanted edges: found, and measured."""
