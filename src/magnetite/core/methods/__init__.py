"""Declarations of methods, the kinds of their settings, and the catalogue of all."""
