"""Calibrations: what a camera does, measured from its pictures, as a step to paste."""
