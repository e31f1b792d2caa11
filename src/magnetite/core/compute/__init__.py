"""Threads, bands, compiled loops, random numbers, filters and blur kernels."""
