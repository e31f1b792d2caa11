"""Adaptive entropy coding: a binary range coder, probabilities that learn, and their mixing."""
