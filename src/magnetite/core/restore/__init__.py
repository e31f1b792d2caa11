"""Restorations: bring a degraded picture back."""
