"""Calibrations: a camera's noise and blur, measured from its pictures, as a step to paste."""
