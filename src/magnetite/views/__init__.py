"""Figures, drawn without a display."""
