"""Degradations: known, calibrated amounts of noise, blur and quantization."""
