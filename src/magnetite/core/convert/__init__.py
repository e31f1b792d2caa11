"""Conversions: a family to a module."""
