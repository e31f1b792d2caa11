"""Figures of one picture alone, one module for each family."""
