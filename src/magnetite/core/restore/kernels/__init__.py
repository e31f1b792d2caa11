"""Loops and estimates that restorations share."""
